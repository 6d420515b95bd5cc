import { type Finding, finding } from '../../../core/findings/findings.js';
import { comparePages, look, type PageComparison } from '../../../core/pages/compare/compare-pages.js';
import { oldAddressesIn } from '../../../core/pages/compare/old-addresses.js';
import { rewrittenBy } from '../../../core/pages/compare/rewritten.js';
import type { StepRun } from '../../move/step.js';
import { asIfEncrypted, type BothSites } from './both-sites.js';

/** Searches both sites for a word of one of their titles, and compares what is found. */
export async function searchFindings(
  run: StepRun,
  sites: BothSites,
  pages: readonly PageComparison[],
): Promise<Finding[]> {
  const { search } = sites.family.web ?? {};
  const word = wordOf(pages);
  if (search === undefined || word === undefined) return [];
  const path = search + encodeURIComponent(word);
  const ask = (end: 'old' | 'new') => sites[end].get(path, run.signal).catch(() => undefined);
  const [old, next] = await Promise.all([ask('old'), ask('new')]);
  const again = await ask('old');
  run.signal.throwIfAborted();
  if (!old || !again || old.status >= 400) return [];
  const report = (what: string) => [
    finding({
      level: 'warn',
      code: 'search-differs',
      place: sites.address + path,
      what,
      remedy: 'Search there yourself; build the index of the search again where the site has one',
    }),
  ];
  if (!next) return report(`The search of the new site does not answer when it is asked for “${word}”`);
  const looks = {
    path,
    old: await look(old),
    again: await look(again),
    next: await look(asIfEncrypted(next, sites)),
  };
  const [first] = (await comparePages(looks, sites.compared)).differences;
  return first ? report(`The search for “${word}” ${first.what}`) : [];
}

/** A longer word of a title, which a search finds. */
function wordOf(pages: readonly PageComparison[]): string | undefined {
  const titles = pages
    .filter(({ oldStatus, path }) => oldStatus === 200 && path !== '/')
    .map(({ oldTitle }) => oldTitle);
  return titles.flatMap(title => title.match(/\p{L}{5,}/gu) ?? [])[0];
}

/** Compares what the programming interface of both sites says of itself. */
export async function interfaceFindings(run: StepRun, sites: BothSites): Promise<Finding[]> {
  const path = sites.family.web?.interface;
  if (path === undefined) return [];
  const ask = (end: 'old' | 'new') => sites[end].get(path, run.signal).catch(() => undefined);
  const [old, next] = await Promise.all([ask('old'), ask('new')]);
  run.signal.throwIfAborted();
  const was = old && old.status < 300 ? parsed(old.html) : undefined;
  if (was === undefined) return [];
  const report = (what: string) => [
    finding({
      level: 'warn',
      code: 'interface-differs',
      place: sites.address + path,
      what,
      remedy:
        'Save the permalink settings of the new site, and look for a security extension or a rule of the server that closes it',
    }),
  ];
  if (!next || next.status >= 300)
    return report(
      `The programming interface of the new site answers ${next?.status ?? 'nothing'}; that of the old one answers ${old!.status}`,
    );
  const html = asIfEncrypted(next, sites).html;
  const is = parsed(html);
  if (is === undefined) return report('What the programming interface of the new site answers is not JSON');
  const { rules, oldHosts } = sites.compared;
  const [left] = oldAddressesIn(html, rewrittenBy(rules)(old!.html), rules, oldHosts);
  if (left) return report(`The programming interface of the new site names the old address ${left.text}`);
  const lost = namesIn(was).filter(name => !namesIn(is).includes(name));
  return lost.length > 0
    ? report(`The programming interface of the new site lacks ${lost.slice(0, 3).join(', ')}`)
    : [];
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

/** The names of a value at its first two levels: what parts an interface has. */
function namesIn(value: unknown): string[] {
  if (typeof value !== 'object' || value === null) return [];
  return Object.entries(value).flatMap(([name, inner]) => {
    const below =
      typeof inner === 'object' && inner !== null && !Array.isArray(inner) ? Object.keys(inner) : [];
    const listed = Array.isArray(inner) ? inner.filter(one => typeof one === 'string') : [];
    return [name, ...[...below, ...listed].slice(0, 2_000).map(one => `${name} ${one}`)];
  });
}
