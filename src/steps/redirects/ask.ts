import { setTimeout as pause } from 'node:timers/promises';
import { readPage } from '../../core/pages/read/page.js';
import type { PageAnswer } from '../../core/redirects/plan/decide.js';
import type { SeenPage, WebSite } from '../../ends/http/web-site.js';

/** What a site answers to one of its pages, after its own redirects. */
export interface AskedPage extends PageAnswer {
  readonly text: string;
  /** Links on it, as whole URLs. */
  readonly links: readonly string[];
}

/** One answer, before any redirect is followed. */
interface Hop extends Pick<AskedPage, 'status' | 'title' | 'text' | 'links'> {
  /** Where it leads, as a whole URL. */
  readonly to: string | undefined;
}

const tries = 3;
const before = 400;
const mostHops = 6;
const largest = 2 * 1024 * 1024;
/** So much of a page's text is compared. */
const mostText = 6_000;

/** Asks a site for its pages, for each one once, however many redirects lead there. */
export class PageAsker {
  private readonly site: WebSite;
  private readonly signal: AbortSignal;
  private readonly known = new Map<string, Promise<Hop>>();

  constructor(site: WebSite, signal: AbortSignal) {
    this.site = site;
    this.signal = signal;
  }

  /**
   * Asks for a page and follows redirects on the site, hop by hop. Its status is 0 where nobody answers, and 508 where redirects
   * lead on and on.
   * @param page below the site's address
   */
  async ask(page: string): Promise<AskedPage> {
    let isPermanent = true;
    let led: string | undefined;
    let at = page;
    for (let hops = 0; ; hops++) {
      const { status, to, title, text, links } = await this.hop(at);
      if (to === undefined) return { status, led, isPermanent, title, text, links };
      isPermanent &&= status === 301 || status === 308;
      led = to;
      const next = this.site.pathOf(to, to);
      if (next === undefined) return { ...nothing, status, led, isPermanent };
      if (next === at || hops === mostHops) return { ...nothing, status: 508, led, isPermanent };
      at = next;
    }
  }

  private hop(page: string): Promise<Hop> {
    const known = this.known.get(page);
    if (known) return known;
    const hop = this.once(page).then(answer =>
      answer instanceof Error ? { ...nothing, status: 0, to: undefined } : read(answer, page, this.site),
    );
    this.known.set(page, hop);
    return hop;
  }

  private async once(page: string): Promise<SeenPage | Error> {
    for (let attempt = 1; ; attempt++) {
      try {
        return await this.site.get(page, this.signal, { isOneHop: true, most: largest });
      } catch (error) {
        this.signal.throwIfAborted();
        if (attempt === tries) return error as Error;
        await pause(before * attempt, undefined, { signal: this.signal });
      }
    }
  }
}

const nothing: Pick<AskedPage, 'title' | 'text' | 'links'> = { title: '', text: '', links: [] };

async function read({ status, address, html }: SeenPage, asked: string, site: WebSite): Promise<Hop> {
  const isRedirect = status >= 300 && status < 400 && site.pathOf(address, address) !== asked;
  if (isRedirect) return { ...nothing, status, to: address };
  if (status >= 300 || html === '') return { ...nothing, status, to: undefined };
  const page = await readPage(html);
  const links = page.links.flatMap(({ target }) =>
    URL.canParse(target, address) ? [new URL(target, address).href] : [],
  );
  const text = page.lines.join('\n').slice(0, mostText);
  return { status, to: undefined, title: page.title, text, links: [...new Set(links)] };
}
