import { pageFindings } from '../../findings/catalogue/pages.js';
import { type Finding, finding } from '../../findings/findings.js';
import { counted } from '../../text/numbers.js';
import type { PageComparison } from './compare-pages.js';
import type { Difference, PageCode } from './difference.js';

/** So many kinds of one difference are reported one by one; more become one finding. */
const mostAlone = 5;
const mostExamples = 3;

/**
 * The findings for the differences of many pages: those that are alike are one.
 * @param address of the new site, without a closing slash
 */
export function findingsOfPages(pages: readonly PageComparison[], address: string): Finding[] {
  const byCode = new Map<PageCode, Difference[]>();
  for (const { differences } of withBrokenPermalinks(pages))
    for (const one of differences) byCode.set(one.code, [...(byCode.get(one.code) ?? []), one]);
  return [...byCode].flatMap(([code, all]) => findingsOf(code, all, address, 'page'));
}

/** The same for files that pages load. */
export function findingsOfFiles(differences: readonly Difference[], address: string): Finding[] {
  const byCode = new Map<PageCode, Difference[]>();
  for (const one of differences) byCode.set(one.code, [...(byCode.get(one.code) ?? []), one]);
  return [...byCode].flatMap(([code, all]) => findingsOf(code, all, address, 'file'));
}

function findingsOf(
  code: PageCode,
  all: readonly Difference[],
  address: string,
  noun: 'page' | 'file',
): Finding[] {
  const { levels, several, remedy } = pageFindings[code];
  const [level] = levels;
  const make = (place: string, what: string) =>
    finding({ level, code, place, what, remedy: remedy.replace(/\.$/, '') });
  const groups = new Map<string, Difference[]>();
  for (const one of all) groups.set(one.like, [...(groups.get(one.like) ?? []), one]);
  if (groups.size <= mostAlone)
    return [...groups.values()].map(([first, ...others]) => {
      const paths = [...new Set(others.map(({ path }) => path))].filter(path => path !== first!.path);
      const more =
        paths.length === 0
          ? ''
          : `; the same is true of ${counted(paths.length, `more ${noun}`)}: ${examples(paths)}`;
      return make(
        `${address}${first!.path}, ${first!.where}`,
        `The ${noun} ${first!.path} ${first!.what}${more}`,
      );
    });
  const [first] = all;
  const paths = [...new Set(all.map(({ path }) => path))];
  const some = [...groups.values()].slice(0, mostExamples).map(([one]) => `${one!.path} ${one!.what}`);
  const what = `${counted(paths.length, noun)} ${several}: ${some.join('; ')}; and ${groups.size - some.length} more`;
  return [make(`${address}${first!.path}, ${first!.where}`, what)];
}

/** Where every page but the front page is missing, that is one fault and not many. */
function withBrokenPermalinks(pages: readonly PageComparison[]): readonly PageComparison[] {
  const asked = pages.filter(({ oldStatus }) => oldStatus < 400);
  const home = asked.find(({ path }) => path === '/');
  const isPage = ({ path }: PageComparison) => path !== '/' && !/\.\w+$|\?/.test(path);
  const below = asked.filter(isPage);
  const isMissing = ({ differences }: PageComparison) =>
    differences.some(({ code }) => code === 'page-missing');
  if (!home || home.newStatus >= 400 || below.length < 2 || !below.every(isMissing)) return pages;
  const changed = (one: Difference): Difference =>
    one.code === 'page-missing'
      ? { ...one, code: 'permalinks-broken', what: 'is not found, though the front page is', like: '' }
      : one;
  return pages.map(page => ({ ...page, differences: page.differences.map(changed) }));
}

/** What the pages of the old site have as well: one finding, apart from those of the move. */
export function defectsBefore(all: readonly Difference[], address: string): Finding[] {
  const [first] = all;
  if (!first) return [];
  const kinds = new Map(all.map(one => [`${one.code} ${one.like}`, one]));
  const some = [...kinds.values()].slice(0, mostExamples).map(one => `${one.path} ${one.what}`);
  const more = kinds.size > some.length ? `; and ${kinds.size - some.length} more` : '';
  return [
    finding({
      level: 'note',
      code: 'pages-defects-before',
      place: `${address}${first.path}, ${first.where}`,
      what: `${counted(new Set(all.map(({ path }) => path)).size, 'page or file', 'pages or files')} of the new site have a defect that the old site has as well: ${some.join('; ')}${more}`,
      remedy: 'Correct it at the new site when the move is done',
    }),
  ];
}

/** What differs because the sheet asked for it. */
export function expectedChanges(pages: readonly PageComparison[], address: string): Finding[] {
  const counts = new Map<string, number>();
  for (const { expected } of pages)
    for (const what of expected) counts.set(what, (counts.get(what) ?? 0) + 1);
  if (counts.size === 0) return [];
  const list = [...counts].map(([what, times]) => `${what} (${counted(times, 'page')})`);
  return [
    finding({
      level: 'note',
      code: 'pages-changed-on-request',
      place: address,
      what: `Pages differ in what the sheet changes: ${list.join(', ')}`,
      remedy: 'Nothing needs to be done',
    }),
  ];
}

/** How many times slower than the old site the new one may be, beyond so many milliseconds. */
const slower = { times: 3, beyond: 700 };

/** Whether the pages of the new site take clearly longer than those of the old one. */
export function slowFindings(pages: readonly PageComparison[], address: string): Finding[] {
  const seen = pages.filter(({ oldStatus, newStatus }) => oldStatus < 400 && newStatus < 400);
  if (seen.length === 0) return [];
  const [old, next] = [0, 1].map(i => median(seen.map(({ millis }) => millis[i as 0 | 1])));
  const isSlow = (before: number, after: number) =>
    after > before * slower.times && after > before + slower.beyond;
  const text = (ms: number) => `${(ms / 1000).toFixed(1)} s`;
  const report = (place: string, what: string) => [
    finding({
      level: 'warn',
      code: 'pages-slow',
      place,
      what,
      remedy:
        'Switch on the cache of the new host’s PHP, compare its version, and check that the database is near',
    }),
  ];
  if (isSlow(old!, next!))
    return report(
      address,
      `The new site takes ${text(next!)} for a page, the old one ${text(old!)} (median of ${counted(seen.length, 'page')})`,
    );
  const slow = seen.filter(({ millis }) => isSlow(millis[0], millis[1]) && millis[1] > 3_000);
  const [first] = slow;
  if (!first) return [];
  return report(
    `${address}${first.path}`,
    `${counted(slow.length, 'page')} of the new site take much longer than at the old one, such as ${first.path} (${text(first.millis[1])} instead of ${text(first.millis[0])})`,
  );
}

function median(values: readonly number[]): number {
  return [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)] ?? 0;
}

function examples(paths: readonly string[]): string {
  return paths.slice(0, mostExamples).join(', ') + (paths.length > mostExamples ? ', …' : '');
}
