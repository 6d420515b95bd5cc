import { count, counted, seconds } from '../../core/text/numbers.js';
import type { CheckResult } from '../../steps/check.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { fit, table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';

/** Old and new side by side: files, rows, what is left, and pages. */
export function showCheck(
  { result, findings, seconds: took, state }: StepOutcome<CheckResult>,
  colors: Terminal['colors'],
): string {
  const head = headOf(result, state === 'stopped', colors);
  return [
    `${head} ${colors.dim(seconds(took))}\n`,
    showFindings(findings, colors),
    compared(result, colors),
    showLeftOver(result, colors),
    showPages(result, colors),
  ]
    .filter(part => part !== '')
    .join('\n');
}

/** Says no more than was looked at. */
function headOf({ pages }: CheckResult, stopped: boolean, colors: Terminal['colors']): string {
  if (stopped) return colors.bold(colors.red('The new site is not the old one yet.'));
  return pages.length > 0
    ? colors.bold(colors.green('The new site is the old one, moved.'))
    : colors.bold(colors.yellow('Files and rows are those of the old site; no pages were looked at.'));
}

/** Files and rows, as one table. */
export function compared({ files, tables, pages }: CheckResult, colors: Terminal['colors']): string {
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
    const same = pages.filter(({ verdict }) => verdict === 'same').length;
    rows.push([
      'pages',
      count(pages.length),
      count(same),
      same === pages.length ? colors.green('the same') : colors.yellow(`${pages.length - same} to look at`),
    ]);
  }
  return table(['', 'old', 'new', ''], rows, [1, 2]);
}

/** Old addresses that are still there, and why. */
export function showLeftOver({ leftOver }: CheckResult, colors: Terminal['colors']): string {
  if (leftOver.length === 0) return colors.green('  No old address is left.') + '\n';
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
  const odd = pages.filter(({ verdict }) => verdict !== 'same');
  const shown = [...odd, ...pages.filter(({ verdict }) => verdict === 'same')].slice(0, 12);
  return (
    pagesTable(shown, colors) +
    (pages.length > shown.length
      ? colors.dim(
          `  and ${pages.length - shown.length} more${odd.length > shown.length ? '' : ', all the same'}\n`,
        )
      : '')
  );
}

/** Pages of both ends beside each other. */
export function pagesTable(pages: CheckResult['pages'], colors: Terminal['colors']): string {
  return table(
    ['page', 'old', 'new', 'title', ''],
    pages.map(({ path, oldStatus, newStatus, newTitle, verdict, why }) => [
      fit(path, 30),
      String(oldStatus),
      String(newStatus),
      fit(newTitle, 40),
      verdict === 'same' ? colors.green('same') : colors.red(why || verdict),
    ]),
    [1, 2],
  );
}
