import { whyOf } from '../../core/pages/compare/compare-pages.js';
import { count, counted, seconds } from '../../core/text/numbers.js';
import { headlineOf, worstOf } from '../../core/verdict.js';
import type { CheckResult } from '../../steps/check.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { fit, table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';

/** Old and new side by side: files, rows, what is left, and pages. */
export function showCheck(
  { result, findings, seconds: took, state }: StepOutcome<CheckResult>,
  colors: Terminal['colors'],
): string {
  return [
    `${headOf(result, state === 'stopped', colors)} ${colors.dim(seconds(took))}\n`,
    showSeen(result, colors),
    showFindings(findings, colors),
    compared(result, colors),
    showLeftOver(result, colors),
    showPages(result, colors),
  ]
    .filter(part => part !== '')
    .join('\n');
}

/** Says no more than was looked at: the worst of it. */
function headOf({ seen }: CheckResult, stopped: boolean, colors: Terminal['colors']): string {
  const worst = worstOf(seen);
  if (stopped && worst !== 'seen bad') return colors.bold(colors.red('The new site is not the old one yet.'));
  const paint = { 'seen good': colors.green, 'not looked at': colors.yellow, 'seen bad': colors.red };
  return colors.bold(paint[worst](headlineOf(seen)));
}

/** What was looked at, line by line. */
export function showSeen({ seen }: CheckResult, colors: Terminal['colors']): string {
  const paint = { 'seen good': colors.green, 'not looked at': colors.yellow, 'seen bad': colors.red };
  return table(
    ['', 'looked at', 'seen'],
    seen.map(({ what, look, text }) => [what, paint[look](look), text]),
    [],
  );
}

/** Files and rows, as one table. */
export function compared({ files, tables, pages, assets }: CheckResult, colors: Terminal['colors']): string {
  const mark = (good: boolean) => (good ? colors.green('equal') : colors.red('not equal'));
  const rows: string[][] = [];
  if (files) {
    const wrong = files.missing.length + files.different.length;
    const edited = files.edited > 0 ? ` (${counted(files.edited, 'file')} adapted to the new host)` : '';
    rows.push([
      'files',
      count(files.compared + files.missing.length),
      count(files.equal + files.edited),
      mark(wrong === 0) + edited,
    ]);
  }
  if (tables.length > 0) {
    const equal = tables.filter(one => one.equal);
    const taken = tables.reduce((total, one) => total + (one.taken ?? 0), 0);
    rows.push(['tables', count(tables.length), count(equal.length), mark(equal.length === tables.length)]);
    const sum = (pick: (one: (typeof tables)[number]) => number) =>
      count(tables.reduce((total, one) => total + pick(one), 0));
    rows.push([
      'rows',
      sum(one => one.oldRows),
      sum(one => one.newRows ?? 0),
      mark(tables.every(one => one.since || one.oldRows === (one.newRows ?? 0) + (one.taken ?? 0))) +
        (taken > 0 ? ` (${counted(taken, 'row')} of sessions and caches removed)` : ''),
    ]);
  }
  if (pages.length > 0) {
    const good = pages.filter(isGood).length;
    rows.push([
      'pages',
      count(pages.length),
      count(good),
      good === pages.length ? colors.green('the same') : colors.yellow(`${pages.length - good} to look at`),
    ]);
    if (assets > 0) rows.push(['files that pages load', '', count(assets), '']);
  }
  return table(['', 'old', 'new', ''], rows, [1, 2]);
}

/** Old addresses that are still there, and why. */
export function showLeftOver({ leftOver }: CheckResult, colors: Terminal['colors']): string {
  if (leftOver.length === 0) return '';
  const rows = leftOver.map(({ place, count: n, sample, why }) => [
    why,
    count(n),
    fit(place, 44),
    colors.dim(fit(sample, 44)),
  ]);
  return table(['old addresses left', 'times', 'where', 'for example'], rows, [1]);
}

function showPages({ pages }: CheckResult, colors: Terminal['colors']): string {
  if (pages.length === 0) return '';
  const odd = pages.filter(page => !isGood(page));
  const shown = [...odd, ...pages.filter(isGood)].slice(0, 12);
  return (
    pagesTable(shown, colors) +
    (pages.length > shown.length
      ? colors.dim(
          `  and ${pages.length - shown.length} more${odd.length > shown.length ? '' : ', all the same'}\n`,
        )
      : '')
  );
}

/** Whether a page is as it was: what the old site does not have either is no fault of the new one. */
function isGood({ verdict }: CheckResult['pages'][number]): boolean {
  return verdict === 'same' || verdict === 'old fails too';
}

/** Pages of both ends beside each other. */
export function pagesTable(pages: CheckResult['pages'], colors: Terminal['colors']): string {
  return table(
    ['page', 'old', 'new', 'title', ''],
    pages.map(page => [
      fit(page.path, 30),
      String(page.oldStatus || '–'),
      String(page.newStatus || '–'),
      fit(page.newTitle, 40),
      page.verdict === 'same'
        ? colors.green('same')
        : isGood(page)
          ? colors.dim(whyOf(page))
          : colors.red(fit(whyOf(page), 60)),
    ]),
    [1, 2],
  );
}
