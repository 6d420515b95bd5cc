import type { Address } from '../../address/address.js';
import { keyOfPage, pageBelow } from '../singles.js';

/** How an old page is known. */
export type PageSource = 'sitemap' | 'link' | 'data' | 'feed' | 'log' | 'list';

/** A page that the old site is known by. */
export interface KnownPage {
  /** Below its address, with its query, as it is asked for. */
  readonly page: string;
  readonly key: string;
  readonly sources: readonly PageSource[];
  /** How often people asked for it, by the logs. */
  readonly hits: number;
  /** How often programs did. */
  readonly bots: number;
}

/** So many are kept at most; those that logs alone have, by their hits. */
const mostPages = 50_000;
const longest = 2_000;
/** What only says where a visitor came from is no part of a page's address. */
const tracking =
  /^(?:utm_\w+|gclid|dclid|gbraid|wbraid|fbclid|msclkid|yclid|twclid|ttclid|igshid|mc_[ce]id|_ga|_gl)=/;

/** Gathers the pages that an old site is known by, each once. */
export class KnownPages {
  private readonly pages = new Map<
    string,
    { page: string; readonly sources: Set<PageSource>; hits: number; bots: number }
  >();
  private readonly addresses: readonly Address[];

  /** @param addresses of the old site */
  constructor(addresses: readonly Address[]) {
    this.addresses = addresses;
  }

  /**
   * Adds a page.
   * @param text a path below the site's address, or a whole URL
   * @returns its key; undefined for what is none of the site's pages
   */
  add(text: string, source: PageSource, { hits = 0, bots = 0 } = {}): string | undefined {
    if (text.length > longest) return undefined;
    const page = pageBelow(text, this.addresses);
    if (page === undefined) return undefined;
    const clean = withoutTracking(page);
    const key = keyOfPage(clean, this.addresses)!;
    const known = this.pages.get(key);
    if (!known) {
      if (this.pages.size >= mostPages) return undefined;
      this.pages.set(key, { page: clean, sources: new Set([source]), hits, bots });
      return key;
    }
    // What visitors type is worse than what the site says itself.
    if (source !== 'log' && known.sources.size === 1 && known.sources.has('log')) known.page = clean;
    known.sources.add(source);
    known.hits += hits;
    known.bots += bots;
    return key;
  }

  get size(): number {
    return this.pages.size;
  }

  /** All, those that are asked for most often first. */
  all(): KnownPage[] {
    return [...this.pages]
      .map(([key, { page, sources, hits, bots }]) => ({ key, page, sources: [...sources], hits, bots }))
      .sort((a, b) => b.hits - a.hits || b.bots - a.bots || (a.page < b.page ? -1 : 1));
  }
}

function withoutTracking(page: string): string {
  const mark = page.indexOf('?');
  if (mark < 0) return page;
  const kept = page
    .slice(mark + 1)
    .split('&')
    .filter(part => part !== '' && !tracking.test(part));
  return kept.length === 0 ? page.slice(0, mark) : `${page.slice(0, mark)}?${kept.join('&')}`;
}
