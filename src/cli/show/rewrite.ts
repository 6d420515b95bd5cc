import { leftAt } from '../../core/rewrite/report/left-list.js';
import type { RewriteSummary } from '../../core/rewrite/report/summary.js';
import { type PlaceTally, placeName, type Sample } from '../../core/rewrite/report/tally.js';
import { count, counted, seconds } from '../../core/text/numbers.js';
import type { StepOutcome } from '../../steps/move/step.js';
import type { RowsPutBack } from '../../steps/rewrite/restore-rows.js';
import type { StandaloneOutcome } from '../../steps/rewrite/standalone.js';
import type { RewriteTrial } from '../../steps/rewrite/trial.js';
import type { RewriteResult } from '../../steps/rewrite.js';
import { fit, table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';

/** The rewriting of a crate. */
export function showRewriteStep(
  { result, findings, seconds: took }: StepOutcome<RewriteResult>,
  colors: Terminal['colors'],
  samples = false,
): string {
  return showCrate({ ...result, findings, seconds: took }, colors, samples);
}

/** What a rewriting of a crate would do. */
export function showTrial(trial: RewriteTrial, colors: Terminal['colors'], samples: boolean): string {
  const parts = [showCrate(trial, colors, samples)];
  if (trial.left) parts.push(showLeft(trial, colors));
  parts.push('Dry run: nothing was written.');
  return parts.join('\n');
}

function showCrate(
  {
    dump,
    files,
    prefix,
    findings,
    seconds: took,
  }: Pick<RewriteTrial, 'dump' | 'files' | 'prefix' | 'findings' | 'seconds'>,
  colors: Terminal['colors'],
  samples: boolean,
): string {
  const parts: string[] = [];
  if (dump) parts.push(showSummary(dump, colors, took));
  if (prefix) parts.push(`  Table prefix ${colors.bold(prefix.from)} → ${colors.bold(prefix.to)}\n`);
  if (files.places.some(({ changed }) => changed > 0)) {
    parts.push(colors.bold('Files that the site had written'), placesTable(files.places, colors));
  }
  if (samples) parts.push(showSamples([...(dump?.places ?? []), ...files.places], colors));
  if (findings.length > 0) parts.push(showFindings(findings, colors));
  return parts.join('\n');
}

/** Rewriting without a move. */
export function showRewriting(
  outcome: StandaloneOutcome,
  colors: Terminal['colors'],
  samples: boolean,
): string {
  const parts = [showSummary(outcome.summary, colors, outcome.seconds)];
  if (samples) parts.push(showSamples(outcome.summary.places, colors));
  if (outcome.findings.length > 0) parts.push(showFindings(outcome.findings, colors));
  if (outcome.left) parts.push(showLeft(outcome, colors));
  parts.push(
    outcome.dryRun
      ? 'Dry run: nothing was written.'
      : `Wrote ${outcome.wrote === '-' ? 'standard output' : outcome.wrote}`,
  );
  return parts.join('\n');
}

/** Every place at which something was left. */
function showLeft(
  { left = [], leftMore }: Pick<StandaloneOutcome, 'left' | 'leftMore'>,
  colors: Terminal['colors'],
): string {
  if (left.length === 0) return 'Nothing was left that looks like an old address.';
  const rows = left.map(({ where, row, why, sample }) => [
    fit(where, 34),
    fit(row, 24),
    fit(why, 24),
    fit(sample, 60),
  ]);
  const more = leftMore > 0 ? `  … and ${count(leftMore)} more\n` : '';
  return `${colors.bold(`Where it was left (${count(left.length + leftMore)})`)}\n${table(['where', 'row', 'why', 'what is there'], rows, [])}${more}`;
}

/** The result of putting rows of a live database back. */
export function showRowsPutBack(
  { place, putBack, notThere }: RowsPutBack,
  colors: Terminal['colors'],
): string {
  const parts = [colors.bold(`${counted(putBack, 'row')} put back in ${place}`)];
  if (notThere > 0)
    parts.push(`${counted(notThere, 'row')} left: put back already, gone, or changed since by somebody else`);
  return parts.join('\n');
}

function showSummary(summary: RewriteSummary, colors: Terminal['colors'], took: number): string {
  const { totals } = summary;
  const head = `${counted(totals.occurrences, 'address', 'addresses')} rewritten in ${counted(totals.changed, 'value')} of ${count(totals.seen)}; ${counted(summary.tables, 'table')}, ${counted(summary.rows, 'row')}, ${seconds(took)}`;
  const pairs = summary.pairs.map(({ from, to }, i) => [
    fit(from, 46),
    `→ ${fit(to, 46)}`,
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

function placesTable(places: readonly PlaceTally[], colors: Terminal['colors']): string {
  const occurrences = (place: PlaceTally) => Object.values(place.forms).reduce((sum, n) => sum + n, 0);
  return table(
    ['where', 'values', 'times', 'for example'],
    places
      .filter(({ changed }) => changed > 0)
      .map(place => {
        return [
          fit(placeName(place), 34),
          count(place.changed),
          count(occurrences(place)),
          example(place.samples[0], colors),
        ];
      }),
    [1, 2],
  );
}

/** What a place looks like afterwards, with the new address marked. */
function example(sample: Sample | undefined, colors: Terminal['colors']): string {
  if (!sample) return '';
  const { after } = sample;
  const { at, text: put } = sample.put;
  // The match is what one looks for: what comes before it gives way.
  const from = Math.max(0, Math.min(at, at + put.length - 40));
  const shown = fit(from === 0 ? after : `…${after.slice(from + 1)}`, 46);
  const address = shown.slice(at - from, at - from + put.length);
  const rest = shown.slice(at - from + address.length);
  return colors.dim(shown.slice(0, at - from)) + address + colors.dim(rest);
}

/** Some changes of each place, before and after, with the match marked. */
function showSamples(places: readonly PlaceTally[], colors: Terminal['colors']): string {
  const lines = places.flatMap(place => {
    if (place.samples.length === 0) return [];
    return [
      `  ${colors.bold(placeName(place))}`,
      ...place.samples.flatMap(({ before, after, found, put }) => [
        `    - ${marked(before, found, colors.red)}`,
        `    + ${marked(after, put, colors.green)}`,
      ]),
    ];
  });
  return lines.length === 0 ? '' : `${colors.bold('Before and after')}\n${lines.join('\n')}\n`;
}

function marked(whole: string, { at, text }: Sample['found'], color: (text: string) => string): string {
  return whole.slice(0, at) + color(`[${text}]`) + whole.slice(at + text.length);
}

function leftRows(places: readonly PlaceTally[]): string[][] {
  return places.flatMap(place =>
    leftAt(place).map(({ why, times, sample }) => [
      why,
      count(times),
      fit(placeName(place), 34),
      fit(sample, 40),
    ]),
  );
}
