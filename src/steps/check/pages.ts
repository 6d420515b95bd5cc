import { type Finding, finding } from '../../core/findings/findings.js';
import {
  type Answer,
  comparePages,
  type PageComparison,
  type PageTrouble,
} from '../../core/pages/compare.js';
import { readPage } from '../../core/pages/page.js';
import type { Family } from '../../core/site/families/family.js';
import { counted } from '../../core/text/numbers.js';
import type { WebSite } from '../../ends/http.js';
import { siteOf } from '../move/sites.js';
import type { StepRun } from '../move/step.js';
import { rulesOf } from '../move/terms.js';

const mostPages = 100;
const mostAssets = 300;
const notPages =
  /\.(?:jpe?g|png|gif|webp|svg|ico|css|js|pdf|zip|mp[34]|xml|json|txt|woff2?)(?:\?|$)|\/feed\/|[?&](?:replytocom|action)=/i;

/**
 * Walks through the old site from its home page and compares every page with the new one. Where the sheet does
 * not say how the new site is reached before the DNS knows it, nothing is asked for.
 */
export async function comparePagesOf(
  run: StepRun,
  family: Family,
): Promise<{ pages: PageComparison[]; findings: Finding[] }> {
  const { move } = run;
  const { old, new: next } = move.sheet;
  if (!next.reach) {
    const notCompared = finding({
      level: 'note',
      code: 'pages-not-compared',
      place: 'new.reach',
      what: 'No pages were compared: the sheet does not say where the new site can be reached before the DNS changes',
      remedy: 'Add new.reach, such as http://198.51.100.20, once the new site is up there',
    });
    return { pages: [], findings: [notCompared] };
  }
  const sites = {
    old: siteOf(move, 'old'),
    new: siteOf(move, 'new'),
  };
  const pages: PageComparison[] = [];
  try {
    const { known, assets } = await followLinks(run, family, sites, pages);
    const broken = await brokenAssets(run, sites.new, assets);
    return { pages, findings: [...pageFindings(pages, known), ...broken] };
  } catch (error) {
    run.signal.throwIfAborted();
    const unreachable = finding({
      level: 'stop',
      code: 'pages-unreachable',
      place: `${old.reach ?? old.address} and ${next.reach}`,
      what: `The sites could not be compared: ${(error as Error).message}`,
      remedy: 'Check old.reach and new.reach, and that both web servers are running',
    });
    return { pages, findings: [unreachable] };
  }
}

/**
 * Compares pages from the home page on, in the order in which they are linked.
 * @param pages receives the comparisons as they are made
 * @returns how many pages are known, and the assets of the new ones with the page that names each
 */
async function followLinks(
  run: StepRun,
  family: Family,
  sites: { readonly old: WebSite; readonly new: WebSite },
  pages: PageComparison[],
): Promise<{ known: number; assets: Map<string, string> }> {
  const rules = rulesOf(run.move);
  const waiting = ['/', ...(family.loginPage ? [`/${family.loginPage}`] : [])];
  const known = new Set(waiting);
  const assets = new Map<string, string>();
  for (let path = waiting.shift(); path !== undefined && pages.length < mostPages; path = waiting.shift()) {
    const [oldAnswer, newAnswer] = await Promise.all([
      sites.old.get(path, run.signal),
      sites.new.get(path, run.signal),
    ]);
    for (const link of await linksOf(oldAnswer, sites.old)) {
      if (known.has(link) || notPages.test(link)) continue;
      known.add(link);
      waiting.push(link);
    }
    for (const asset of (await readPage(newAnswer.html)).assets) {
      const at = sites.new.pathOf(asset, newAnswer.address);
      if (at !== undefined && assets.size < mostAssets && !assets.has(at)) assets.set(at, path);
    }
    pages.push(await comparePages(path, oldAnswer, newAnswer, rules, family));
    const of = Math.min(known.size, mostPages);
    run.events({ type: 'progress', what: path, done: pages.length, of, unit: 'pages' });
  }
  return { known: known.size, assets };
}

async function linksOf(answer: Answer, site: WebSite): Promise<string[]> {
  const { links } = await readPage(answer.html);
  return links
    .map(link => site.pathOf(link.replace(/#.*/, ''), answer.address))
    .filter(path => path !== undefined);
}

async function brokenAssets(
  run: StepRun,
  site: WebSite,
  assets: ReadonlyMap<string, string>,
): Promise<Finding[]> {
  const broken: [string, string][] = [];
  for (const [asset, page] of assets) {
    const { status } = await site.get(asset, run.signal);
    if (status >= 400) broken.push([asset, page]);
  }
  const [first] = broken;
  if (!first) return [];
  return [
    finding({
      level: 'warn',
      code: 'asset-broken',
      place: `${first[0]} on the page ${first[1]}`,
      what: `${broken.length} ${broken.length === 1 ? 'image, style or script does' : 'images, styles or scripts do'} not load at the new site`,
      remedy: 'Check whether the file was left out by take.files, or is missing at the old site too',
    }),
  ];
}

function pageFindings(pages: readonly PageComparison[], known: number): Finding[] {
  const findings = alikePages(pages).flatMap(alike => {
    const one = findingOf(alike);
    return one ? [one] : [];
  });
  if (known > pages.length) {
    findings.push(
      finding({
        level: 'note',
        code: 'pages-not-all',
        place: `${pages.length} pages`,
        what: `${counted(known - pages.length, 'more page', 'more pages')} are linked from these and were not compared`,
        remedy: 'Look at some of them yourself',
      }),
    );
  }
  return findings;
}

/** The finding for pages with the same trouble; undefined where nothing is wrong with them. */
function findingOf(alike: readonly PageComparison[]): Finding | undefined {
  const [first] = alike;
  if (!first) return undefined;
  const { path: place, verdict, why, trouble } = first;
  const paths = alike.slice(0, 4).map(one => one.path);
  const some = paths.join(' ') + (alike.length > paths.length ? ' …' : '');
  const what =
    alike.length === 1
      ? `The page is not as it was: ${why}`
      : `${alike.length} pages are not as they were: ${why} (${some})`;
  switch (verdict) {
    case 'trouble':
      return finding({
        level: 'stop',
        code: troubleCodes[trouble ?? 'another address'],
        place,
        what,
        remedy:
          'Check that the finished dump is loaded, and that database, user, password and prefix in the configuration are its own',
      });
    case 'missing':
      return finding({
        level: 'stop',
        code: 'page-missing',
        place,
        what,
        remedy: 'Open the site’s permalink settings once and save them; check the server’s rewrite rules',
      });
    case 'differs':
      return finding({
        level: 'warn',
        code: 'page-differs',
        place,
        what,
        remedy: 'Open the two pages side by side; a part that changes all the time may differ without harm',
      });
    default:
      return undefined;
  }
}

const troubleCodes = {
  'installation page': 'page-installation',
  'database error': 'page-database-error',
  'another address': 'page-sent-away',
} as const satisfies Record<PageTrouble, Finding['code']>;

/** Pages with the same trouble, which is reported once. */
function alikePages(pages: readonly PageComparison[]): PageComparison[][] {
  const groups = new Map<string, PageComparison[]>();
  for (const page of pages) {
    const key = `${page.verdict} ${page.why}`;
    groups.set(key, [...(groups.get(key) ?? []), page]);
  }
  return [...groups.values()];
}
