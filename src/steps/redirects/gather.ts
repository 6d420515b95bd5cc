import { addressPath } from '../../core/address/address.js';
import type { KnownPage, KnownPages } from '../../core/redirects/plan/known-pages.js';
import type { RedirectSet } from '../../core/redirects/redirect-set.js';
import { pageReader } from '../../core/site/data/page-addresses.js';
import { SiteRows } from '../../core/site/data/rows-of-dump.js';
import type { Family } from '../../core/site/families/family.js';
import { counted } from '../../core/text/numbers.js';
import { readDump } from '../../ends/database/dump/reader.js';
import type { WebSite } from '../../ends/http/web-site.js';
import { takenDump } from '../../ends/move-folder/crate.js';
import { readSitemaps } from '../check/site/seeds.js';
import type { StepRun } from '../move/step.js';
import { type AskedPage, PageAsker } from './ask.js';
import { type ReadLogs, readLogs } from './logs.js';

/** What was looked at for old addresses, and what it gave. */
export interface LookedAt {
  readonly what: 'redirects.csv' | 'sitemaps' | 'data' | 'access logs' | 'crawl';
  /** Whether it was looked at. */
  readonly seen: boolean;
  readonly text: string;
}

/** Adds what the data of the old site names. */
export async function addData({ move, signal }: StepRun, pages: KnownPages): Promise<LookedAt> {
  const what = 'data';
  const manifest = await move.crate.manifest().catch(() => undefined);
  if (!manifest || manifest.tables.length === 0)
    return { what, seen: false, text: manifest ? 'the crate has no database' : 'nothing was packed yet' };
  const reader = pageReader(manifest.from.family);
  if (!reader)
    return { what, seen: false, text: `the tables of a ${manifest.from.family} site are not known` };
  const rows = new SiteRows(move.bench, reader, manifest.from.prefix ?? '');
  await readDump(move.bench, move.crate.at(takenDump), rows, { signal });
  const found = reader.result();
  for (const { page, source } of found) pages.add(page, source);
  return {
    what,
    seen: true,
    text: `${counted(found.length, 'address', 'addresses')} of ${manifest.from.family} entries, terms and feeds`,
  };
}

/** Adds what the sitemaps of a site name. */
export async function addSitemaps(
  run: StepRun,
  site: WebSite,
  { family, robots }: { readonly family: Family; readonly robots: string | undefined },
  pages: KnownPages,
): Promise<LookedAt> {
  const sitemaps = await readSitemaps(run, site, family, robots);
  const urls = sitemaps.flatMap(one => one.pages);
  for (const url of urls) pages.add(url, 'sitemap');
  const text =
    sitemaps.length === 0
      ? 'the old site has none'
      : `${counted(urls.length, 'address', 'addresses')} in ${counted(sitemaps.length, 'sitemap')}`;
  return { what: 'sitemaps', seen: true, text };
}

/** Adds what people and programs asked for, by the access logs. */
export async function addLogs(
  run: StepRun,
  set: RedirectSet,
  family: Family,
  pages: KnownPages,
): Promise<{ looked: LookedAt; logs: ReadLogs }> {
  const logs = await readLogs(run, set, pages, ownWorkOf(set, family));
  const what = 'access logs';
  if (logs.files.length === 0)
    return {
      looked: { what, seen: false, text: 'the sheet names none that can be read (redirects.logs)' },
      logs,
    };
  const days = logs.period ? ` in ${counted(logs.period.days, 'day')}` : '';
  const text = `${counted(logs.lines, 'line')}: ${counted(logs.hits, 'hit')} by people and ${counted(logs.bots, 'hit')} by programs${days}`;
  return { looked: { what, seen: true, text }, logs };
}

/** Addresses at which a site is run, not read. */
function ownWorkOf({ from }: RedirectSet, { web }: Family): (uri: string) => boolean {
  const own = ['/.well-known/', ...(web?.notRead ?? [])];
  const bases = from.map(addressPath);
  return uri => {
    const base = bases.find(path => uri.startsWith(path)) ?? '';
    return own.some(path => uri.slice(base.length).startsWith(path));
  };
}

/** Files that pages load: they are known and redirected, but nobody asks for each. */
const isPart = /\.(?:jpe?g|png|gif|webp|avif|svg|ico|css|m?js|map|woff2?|ttf|eot)(?:\?|$)/i;

/** How the old site is gone through. */
export interface Crawling {
  /** So many pages are found by links. */
  readonly most: number;
  readonly atOnce: number;
  /** Whether a link may be followed, by the site's robots.txt. */
  mayVisit(url: string): boolean;
}

/**
 * Asks the old site for all pages that are known, and follows links to more.
 * @returns the answers, by the keys of the pages
 */
export async function askOldPages(
  run: StepRun,
  site: WebSite,
  pages: KnownPages,
  { most, atOnce, mayVisit }: Crawling,
): Promise<Map<string, AskedPage>> {
  const answers = new Map<string, AskedPage>();
  const asker = new PageAsker(site, run.signal);
  const waiting: Pick<KnownPage, 'key' | 'page'>[] = pages.all().filter(({ page }) => !isPart.test(page));
  const known = new Set(pages.all().map(({ key }) => key));
  let byLinks = 0;
  let active = 0;
  const idle: (() => void)[] = [];
  const take = async () => {
    while (waiting.length === 0 && active > 0) await new Promise<void>(resolve => idle.push(resolve));
    return waiting.shift();
  };
  const work = async () => {
    for (let next = await take(); next !== undefined; next = await take()) {
      run.signal.throwIfAborted();
      active++;
      try {
        const answer = await asker.ask(next.page);
        answers.set(next.key, answer);
        for (const link of answer.links) {
          if (byLinks >= most || isPart.test(link) || !mayVisit(link)) continue;
          const page = site.pathOf(link, link);
          const key = page === undefined ? undefined : pages.add(page, 'link');
          if (key === undefined || known.has(key)) continue;
          known.add(key);
          byLinks++;
          waiting.push({ key, page: page! });
        }
        run.events({
          type: 'progress',
          what: next.page,
          done: answers.size,
          of: answers.size + waiting.length + active - 1,
          unit: 'pages',
          stream: 'old',
          more: byLinks < most,
        });
      } finally {
        active--;
        for (const wake of idle.splice(0)) wake();
      }
    }
  };
  await Promise.all(Array.from({ length: atOnce }, work));
  return answers;
}
