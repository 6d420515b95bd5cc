import { type Finding, finding } from '../../../core/findings/findings.js';
import type { PageComparison } from '../../../core/pages/compare/compare-pages.js';
import { leadsToOldSite, rewrittenBy } from '../../../core/pages/compare/rewritten.js';
import { readFeed, readSitemap } from '../../../core/pages/site/sitemap.js';
import { counted } from '../../../core/text/numbers.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from './both-sites.js';
import { type SeenSitemap, textOf } from './seeds.js';

/** Compares the sitemaps of the old site with those at the same places of the new one. */
export async function sitemapFindings(
  run: StepRun,
  sites: BothSites,
  old: readonly SeenSitemap[],
  pages: readonly PageComparison[],
): Promise<Finding[]> {
  const lists = await Promise.all(old.map(one => sitemapFinding(run, sites, one)));
  return [...lists.flat(), ...brokenEntries(sites, old, pages)];
}

async function sitemapFinding(run: StepRun, sites: BothSites, old: SeenSitemap): Promise<Finding[]> {
  const { address, compared } = sites;
  const place = address + old.path;
  const report = (what: string) => [
    finding({
      level: 'warn',
      code: 'sitemap-differs',
      place,
      what,
      remedy: 'Let the site write its sitemap again, and look at it',
    }),
  ];
  const answer = await sites.new.get(old.path, run.signal, { most: 50 * 1024 * 1024 }).catch(() => undefined);
  run.signal.throwIfAborted();
  if (!answer || answer.status >= 300)
    return report(
      `The sitemap ${old.path} of the new site answers ${answer?.status ?? 'nothing'}; the old site has it`,
    );
  const next = readSitemap(textOf(answer));
  if (!next) return report(`What the new site has at ${old.path} is no sitemap`);
  const rewrite = rewrittenBy(compared.rules);
  const found = [...next.pages, ...next.sitemaps];
  const left = found.filter(url => leadsToOldSite(url, compared.rules, compared.oldHosts));
  if (left.length > 0)
    return report(
      `The sitemap ${old.path} of the new site names ${counted(left.length, 'old address', 'old addresses')}, such as ${left[0]}`,
    );
  const wanted = [...old.pages, ...old.sitemaps].map(rewrite);
  const [there, here] = [new Set(wanted), new Set(found)];
  const missing = wanted.filter(url => !here.has(url));
  const extra = found.filter(url => !there.has(url));
  if (missing.length > 0)
    return report(
      `The sitemap ${old.path} of the new site lacks ${counted(missing.length, 'address', 'addresses')} of the old one, such as ${missing[0]}`,
    );
  if (extra.length > 0)
    return report(
      `The sitemap ${old.path} of the new site names ${counted(extra.length, 'address', 'addresses')} that the old one does not, such as ${extra[0]}`,
    );
  return [];
}

/** Pages of the sitemaps that the old site gives and the new one does not. */
function brokenEntries(
  sites: BothSites,
  old: readonly SeenSitemap[],
  pages: readonly PageComparison[],
): Finding[] {
  const statusOf = new Map(pages.map(page => [page.path, page]));
  const broken = old
    .flatMap(one => one.pages)
    .map(url => sites.old.pathOf(url, url))
    .filter(path => path !== undefined)
    .filter(path => {
      const page = statusOf.get(path);
      return page !== undefined && page.oldStatus < 300 && page.newStatus >= 300;
    });
  const [first] = broken;
  if (first === undefined) return [];
  return [
    finding({
      level: 'warn',
      code: 'sitemap-differs',
      place: sites.address + first,
      what: `${counted(broken.length, 'page')} of the sitemaps do not answer with 200 at the new site, such as ${first}`,
      remedy: 'Correct these pages first; search engines ask for them',
    }),
  ];
}

/** Compares the feeds of the family and those that pages name. */
export async function feedFindings(run: StepRun, sites: BothSites): Promise<Finding[]> {
  const lists = await Promise.all((sites.family.web?.feeds ?? []).map(path => feedFinding(run, sites, path)));
  return lists.flat();
}

async function feedFinding(run: StepRun, sites: BothSites, path: string): Promise<Finding[]> {
  const ask = (end: 'old' | 'new') => sites[end].get(path, run.signal).catch(() => undefined);
  const [old, next] = await Promise.all([ask('old'), ask('new')]);
  run.signal.throwIfAborted();
  const was = old && old.status < 300 ? readFeed(textOf(old)) : undefined;
  if (!was) return [];
  const report = (what: string) => [
    finding({
      level: 'warn',
      code: 'feed-broken',
      place: sites.address + path,
      what,
      remedy: 'Open the feed at the new site, and empty its caches',
    }),
  ];
  if (!next || next.status >= 300)
    return report(`The feed ${path} of the new site answers ${next?.status ?? 'nothing'}`);
  const is = readFeed(textOf(next));
  if (!is) return report(`What the new site has at ${path} is no feed`);
  const { rules, oldHosts } = sites.compared;
  const rewrite = rewrittenBy(rules);
  const left = is.links.find(url => leadsToOldSite(url, rules, oldHosts));
  if (left !== undefined) return report(`The feed ${path} of the new site leads to the old address ${left}`);
  const here = new Set(is.links);
  const missing = was.links.map(rewrite).filter(url => !here.has(url));
  return missing.length > 0
    ? report(
        `The feed ${path} of the new site lacks ${counted(missing.length, 'entry', 'entries')} of the old one, such as ${missing[0]}`,
      )
    : [];
}
