import { type Finding, finding } from '../../../core/findings/findings.js';
import { digestOf } from '../../../core/journal.js';
import type { PageComparison } from '../../../core/pages/compare/compare-pages.js';
import {
  defectsBefore,
  expectedChanges,
  findingsOfFiles,
  findingsOfPages,
  slowFindings,
} from '../../../core/pages/compare/findings.js';
import { PageQueue } from '../../../core/pages/site/queue.js';
import type { SiteFigures } from '../../../core/site/data/site-figures.js';
import { counted } from '../../../core/text/numbers.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from '../site/both-sites.js';
import { interfaceFindings, searchFindings } from '../site/interfaces.js';
import { loginFindings } from '../site/login.js';
import { nameFindings, reachedFindings } from '../site/names.js';
import { robotsFindings, robotsOf } from '../site/robots.js';
import { readSitemaps, resolved } from '../site/seeds.js';
import { feedFindings, sitemapFindings } from '../site/sitemaps.js';
import { checkAssets } from './assets.js';
import { PagesSeen } from './seen-before.js';
import { walk } from './walk.js';

/** What a comparison of the pages gave. */
export interface ComparedPages {
  readonly pages: readonly PageComparison[];
  /** How many files that pages load were looked at. */
  readonly assets: number;
  readonly findings: readonly Finding[];
}

/** The finding that no page was looked at, since nobody knows where the new site is. */
export function notReachable(): ComparedPages {
  const notCompared = finding({
    level: 'note',
    code: 'pages-not-compared',
    place: 'new.reach',
    what: 'No pages were compared: the sheet does not say where the new site can be reached before the DNS changes',
    remedy: 'Add new.reach, such as http://198.51.100.20, once the new site is up there',
  });
  return { pages: [], assets: 0, findings: [notCompared] };
}

/**
 * Compares both sites as visitors, browsers and search engines see them: pages along the sitemaps, the links and the data
 * of the old site, what they load, and what a site has besides its pages.
 * @param figures of the old site's data, when they are read
 */
export async function comparePagesOf(
  run: StepRun,
  sites: BothSites,
  figures: Promise<SiteFigures>,
  inputs: unknown,
): Promise<ComparedPages> {
  const { old: oldSite, new: newSite, address, family } = sites;
  const unreachable = await silent(run, sites);
  if (unreachable) return unreachable;
  const [oldRobots, newRobots] = await Promise.all([robotsOf(run, oldSite), robotsOf(run, newSite)]);
  const sitemaps = await readSitemaps(run, oldSite, family, oldRobots);
  const queue = new PageQueue();
  queue.add('/', true);
  if (family.loginPage) queue.add(`/${family.loginPage}`, true);
  for (const url of sitemaps.flatMap(({ pages }) => pages)) {
    const path = oldSite.pathOf(url, url);
    if (path !== undefined) queue.add(path);
  }
  const most = run.move.sheet.check.pages;
  const seen = await PagesSeen.open(run.move.folder, digestOf(inputs));
  const more = async () => {
    const { pages } = await figures;
    return resolved(run, sites, pages.slice(0, most));
  };
  const { pages, known, assets } = await walk(run, { sites, queue, most, seen, more });
  const there = pages.filter(({ oldStatus }) => oldStatus > 0 && oldStatus < 300).map(({ path }) => path);
  const files = await checkAssets(run, sites, assets);
  const parts = await Promise.all([
    nameFindings(run, sites),
    sitemapFindings(run, sites, sitemaps, pages),
    feedFindings(run, sites),
    searchFindings(run, sites, pages),
    interfaceFindings(run, sites),
    loginFindings(run, sites),
  ]);
  await seen.done();
  const before = [...pages.flatMap(one => one.before), ...files.before];
  return {
    pages,
    assets: files.looked,
    findings: [
      ...findingsOfPages(pages, address),
      ...findingsOfFiles(files.here, address),
      ...robotsFindings(sites, oldRobots, newRobots, there),
      ...parts.flat(),
      ...(await slowPages(run, sites, pages)),
      ...reachedFindings(sites),
      ...expectedChanges(pages, address),
      ...defectsBefore(before, address),
      ...notAnswered(pages, address),
      ...notAll(pages, known),
    ],
  };
}

/** Whether one of the sites does not answer at all. */
async function silent(run: StepRun, { old, new: next }: BothSites): Promise<ComparedPages | undefined> {
  const errors = await Promise.all(
    [old, next].map(site =>
      site.get('/', run.signal).then(
        () => undefined,
        (error: Error) => error,
      ),
    ),
  );
  run.signal.throwIfAborted();
  const which = errors.findIndex(error => error !== undefined);
  if (which < 0) return undefined;
  const [name, site] = which === 0 ? (['old', old] as const) : (['new', next] as const);
  const found = finding({
    level: 'stop',
    code: 'pages-unreachable',
    place: site.reached,
    what: `The ${name} site does not answer, so no pages were compared: ${errors[which]!.message}`,
    remedy: `Check ${name}.reach, and that its web server is running`,
  });
  return { pages: [], assets: 0, findings: [found] };
}

const measured = 6;

/**
 * Whether the new site is slower: what seems so while several pages are asked for at the same time is measured once more, one
 * page after the other, when both sites have been visited.
 */
async function slowPages(
  run: StepRun,
  sites: BothSites,
  pages: readonly PageComparison[],
): Promise<Finding[]> {
  if (slowFindings(pages, sites.address).length === 0) return [];
  const slowest = pages
    .filter(({ oldStatus, newStatus }) => oldStatus < 400 && newStatus < 400)
    .sort((a, b) => b.millis[1] - b.millis[0] - (a.millis[1] - a.millis[0]))
    .slice(0, measured);
  const calm: PageComparison[] = [];
  for (const page of slowest) {
    const times = { old: Number.POSITIVE_INFINITY, new: Number.POSITIVE_INFINITY };
    for (const end of ['old', 'new', 'old', 'new'] as const) {
      const answer = await sites[end].get(page.path, run.signal).catch(() => undefined);
      run.signal.throwIfAborted();
      if (answer) times[end] = Math.min(times[end], answer.millis);
    }
    if (Number.isFinite(times.old + times.new)) calm.push({ ...page, millis: [times.old, times.new] });
  }
  return slowFindings(calm, sites.address);
}

/** Pages of the old site that did not answer, though it was asked several times. */
function notAnswered(pages: readonly PageComparison[], address: string): Finding[] {
  const silent = pages.filter(
    ({ verdict, differences }) => verdict === 'not compared' && differences.length === 0,
  );
  const [first] = silent;
  if (!first) return [];
  const some = silent.slice(0, 3).map(({ path }) => path);
  return [
    finding({
      level: 'warn',
      code: 'pages-not-answered',
      place: `${address}${first.path}`,
      what: `${counted(silent.length, 'page')} of the old site did not answer, so ${silent.length === 1 ? 'it was' : 'they were'} not compared: ${some.join(', ')}${silent.length > some.length ? ', …' : ''}`,
      remedy: 'Run check again, with --gentle if the old server bears little',
    }),
  ];
}

function notAll(pages: readonly PageComparison[], known: number): Finding[] {
  if (known <= pages.length) return [];
  return [
    finding({
      level: 'note',
      code: 'pages-not-all',
      place: counted(pages.length, 'page'),
      what: `${counted(known - pages.length, 'more page is', 'more pages are')} known and were not compared; those that were are a sample of every kind`,
      remedy: 'Raise check.pages to compare all of them',
    }),
  ];
}
