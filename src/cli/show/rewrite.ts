import type { RewriteSummary } from '../../core/rewrite/summary.js';
import type { PlaceTally } from '../../core/rewrite/tally.js';
import type { RewriteResult } from '../../steps/rewrite.js';
import type { OwnOutcome } from '../../steps/rewrite-dump.js';
import type { StepOutcome } from '../../steps/run.js';
import { type Face, showFindings } from '../face.js';
import { count, counted, seconds } from './numbers.js';
import { cut, table } from './table.js';

/** The rewriting of a crate. */
export function showRewriteStep(
  { result, findings, seconds: took }: StepOutcome<RewriteResult>,
  colors: Face['colors'],
): string {
  const { dump, files, prefix } = result;
  const parts: string[] = [];
  if (dump) parts.push(showSummary(dump, colors, took));
  if (prefix) parts.push(`  Table prefix ${colors.bold(prefix.from)} → ${colors.bold(prefix.to)}\n`);
  if (files.places.some(({ changed }) => changed > 0)) {
    parts.push(colors.bold('Files that the site had written'), placesTable(files.places, colors));
  }
  if (findings.length > 0) parts.push(showFindings(findings, colors));
  return parts.join('\n');
}

/** The rewriting of a dump by itself. */
export function showRewriting(outcome: OwnOutcome, colors: Face['colors']): string {
  const parts = [showSummary(outcome.summary, colors, outcome.seconds)];
  if (outcome.findings.length > 0) parts.push(showFindings(outcome.findings, colors));
  parts.push(
    outcome.out === undefined
      ? 'Dry run: nothing was written.'
      : `Wrote ${outcome.out === '-' ? 'standard output' : outcome.out}`,
  );
  return parts.join('\n');
}

function showSummary(summary: RewriteSummary, colors: Face['colors'], took: number): string {
  const { totals } = summary;
  const head = `${counted(totals.occurrences, 'address', 'addresses')} rewritten in ${counted(totals.changed, 'value')} of ${count(totals.seen)}; ${counted(summary.tables, 'table')}, ${counted(summary.rows, 'row')}, ${seconds(took)}`;
  const pairs = summary.pairs.map(({ from, to }, i) => [
    cut(from, 46),
    `→ ${cut(to, 46)}`,
    count(totals.pairs[i] ?? 0),
  ]);
  const parts = [colors.bold(head), table(['old', 'new', 'times'], pairs, [2])];
  if (totals.occurrences > 0) parts.push(table(['written as', 'times'], byCount(totals.forms), [1]));
  const changed = summary.places.filter(place => place.changed > 0);
  if (changed.length > 0) parts.push(colors.bold('Changed'), placesTable(changed, colors));
  const left = leftRows(summary.places);
  if (left.length > 0)
    parts.push(colors.bold('Left as it was'), table(['why', 'times', 'where', 'for example'], left, [1]));
  return parts.join('\n');
}

function byCount(counts: Readonly<Record<string, number>>): string[][] {
  return Object.entries(counts)
    .sort(([, a], [, b]) => b - a)
    .map(([name, n]) => [name, count(n)]);
}

function placesTable(places: readonly PlaceTally[], colors: Face['colors']): string {
  const occurrences = (place: PlaceTally) => Object.values(place.forms).reduce((sum, n) => sum + n, 0);
  return table(
    ['where', 'values', 'times', 'for example'],
    places
      .filter(({ changed }) => changed > 0)
      .map(place => {
        const name = place.table === 'files' ? place.column : `${place.table}.${place.column}`;
        const example = place.samples[0]?.after ?? '';
        return [cut(name, 34), count(place.changed), count(occurrences(place)), colors.dim(cut(example, 46))];
      }),
    [1, 2],
  );
}

function leftRows(places: readonly PlaceTally[]): string[][] {
  const rows: string[][] = [];
  for (const place of places) {
    const where = cut(`${place.table}.${place.column}`, 34);
    if (place.left > 0) {
      const why = place.table === 'statements' ? 'outside of rows' : 'left on purpose';
      rows.push([why, count(place.left), where, cut(place.missSamples.left ?? '', 40)]);
    }
    if (place.damaged > 0)
      rows.push(['damaged value', count(place.damaged), where, cut(place.missSamples.damaged ?? '', 40)]);
    for (const [miss, n] of Object.entries(place.misses)) {
      rows.push([
        miss,
        count(n),
        where,
        cut(place.missSamples[miss as keyof PlaceTally['missSamples']] ?? '', 40),
      ]);
    }
  }
  return rows;
}
