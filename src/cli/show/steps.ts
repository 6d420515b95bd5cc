import type { CutoverPlan } from '../../core/dns/plan.js';
import { showable } from '../../core/text/display.js';
import { count, counted, seconds } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { LoadedDatabase } from '../../steps/deliver/database/loaded.js';
import type { EditDone } from '../../steps/deliver/database/site-data.js';
import type { Difference, SetUpResult } from '../../steps/deliver/site/apply.js';
import type { DeliverResult } from '../../steps/deliver.js';
import type { StepOutcome } from '../../steps/move/step.js';
import type { CrateArchive, VerifiedCrate } from '../../steps/pack/archive.js';
import type { PackResult } from '../../steps/pack.js';
import type { RedirectsResult } from '../../steps/redirects.js';
import type { StepStatus } from '../../steps/status.js';
import type { TidyResult } from '../../steps/tidy.js';
import type { UndoResult } from '../../steps/undo.js';
import { cut, table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';

type Colors = Terminal['colors'];

/** A line that says the result of a step; what was done before is said so. */
function headline(outcome: StepOutcome<unknown>, text: string, colors: Colors): string {
  if (outcome.state === 'already done')
    return `${colors.green('Already done')}, and nothing has changed since: ${text}`;
  return outcome.state === 'stopped'
    ? colors.bold(colors.red('Stopped.'))
    : `${colors.green('Done')} in ${seconds(outcome.seconds)}: ${text}`;
}

function withFindings(outcome: StepOutcome<unknown>, lines: readonly string[], colors: Colors): string {
  const findings = showFindings(outcome.findings, colors);
  return [...lines, ...(findings ? ['', findings] : [])].join('\n');
}

export function showPack(
  outcome: StepOutcome<PackResult> & { archive?: CrateArchive | undefined },
  colors: Colors,
): string {
  const { counts, crate, kept, way } = outcome.result;
  const text = `${counted(counts.files, 'file')} (${bytes(counts.bytes)}), ${counted(counts.tables, 'table')} with ${counted(counts.rows, 'row')}`;
  const lines = [headline(outcome, text, colors)];
  if (outcome.state !== 'stopped') lines.push(`  in the crate ${crate}`);
  if (way) lines.push(`  transferred ${way}`);
  if (kept > 0) lines.push(`  ${counted(kept, 'file was', 'files were')} there already and unchanged`);
  const { archive } = outcome;
  if (archive) {
    const [first, ...others] = archive.files;
    const parts = others.length > 0 ? ` to .${archive.files.at(-1)!.split('.').at(-1)}; cat joins them` : '';
    const sealed = archive.encrypted ? ', encrypted (age v1)' : '';
    lines.push(`  as one tar ${first}${parts} (${bytes(archive.bytes)}${sealed})`);
  }
  return withFindings(outcome, lines, colors);
}

/** The result of reading a crate again. */
export function showVerified(
  { crate, manifest, parts, files, bytes: size }: VerifiedCrate,
  colors: Colors,
): string {
  const lines = [
    `${colors.green('The crate is whole')}: ${counted(files, 'file')} (${bytes(size)}) and ${counted(parts, 'part')} are what its checksums say`,
    `  ${crate}`,
    `  of ${manifest.from.address}, taken ${manifest.taken.replace('T', ' ').slice(0, 16)} UTC`,
  ];
  if (manifest.note !== undefined) lines.push(`  note: ${showable(manifest.note)}`);
  return lines.join('\n');
}

export function showDeliver(outcome: StepOutcome<DeliverResult>, colors: Colors): string {
  const { files, dump, parts, configuration, fitted, edits, keepsakes } = outcome.result;
  const sample = outcome.findings.some(({ code }) => code === 'read-back-sample');
  const checked = sample ? ', a sample of them checked' : ', each checked';
  const lines = [headline(outcome, 'everything is in its place', colors)];
  if (files)
    lines.push(
      `  files          ${files.place} – ${counted(files.count, 'file')} (${bytes(files.bytes)})${checked}${files.way ? `, transferred ${files.way}` : ''}`,
    );
  if (files && files.again > 0)
    lines.push(
      `                 ${counted(files.again, 'file was', 'files were')} there already and unchanged`,
    );
  if (files && files.removed > 0)
    lines.push(
      `                 ${counted(files.removed, 'file or folder', 'files and folders')} removed that the old site no longer has`,
    );
  lines.push(...showLoaded(outcome.result.database));
  if (dump)
    lines.push(
      `  finished dump  ${dump.file} (${bytes(dump.bytes)}); load it into the new database`,
      ...showEdits(dump.edits),
    );
  if (parts)
    lines.push(
      `  in pieces      ${parts.folder} – ${counted(parts.count, 'piece')}, the largest ${bytes(parts.largest)}; READ-ME-FIRST.txt says how to load them`,
    );
  if (configuration)
    lines.push(
      `  configuration  ${configuration.file} – ${configuration.changed.join(', ') || 'nothing'} changed`,
    );
  if (fitted.length > 0) lines.push(`  fitted         ${fitted.join(', ')}`);
  for (const [i, n] of edits.entries()) lines.push(`  edit ${i + 1}         in ${counted(n, 'place')}`);
  for (const keepsake of keepsakes)
    lines.push(`  kept           ${keepsake}; "undo" puts it back, "tidy" removes it`);
  return withFindings(outcome, lines, colors);
}

/** The result of loading the database, line by line. */
function showLoaded(loaded: LoadedDatabase | undefined): string[] {
  if (!loaded) return [];
  const equal = loaded.tables.filter(one => one.equal).length;
  const lines = [
    `  database       ${loaded.database} – ${counted(loaded.tables.length, 'table')} with ${counted(loaded.rows, 'row')}; ${equal === loaded.tables.length ? 'every table' : `only ${equal}`} read back equal`,
  ];
  for (const made of loaded.made) lines.push(`                 made ${made}`);
  for (const [what, n] of Object.entries(loaded.fitted))
    lines.push(`                 fitted: ${what} (${counted(n, 'time')})`);
  lines.push(...showEdits(loaded.edits));
  if (loaded.keepsake !== undefined)
    lines.push(
      `  kept           ${counted(loaded.dropped.length, 'table')} that were there before, in ${loaded.keepsake}; "undo" puts them back, "tidy" removes them`,
    );
  return lines;
}

/** What is corrected in the data of the new site. */
function showEdits(edits: readonly EditDone[]): string[] {
  return edits.map(({ what, rows, before, after, held, table: name }) => {
    const named = held.length > 0 ? `: ${held.join(', ')}` : '';
    const change = before === '' && after === '' ? named : `: ${cut(before, 40)} → ${cut(after, 40)}`;
    return `  set right      ${what} – ${counted(rows, 'row')} of ${name}${change}`;
  });
}

export function showSetUp(outcome: StepOutcome<SetUpResult>, colors: Colors): string {
  const { configuration, written, keepsakes } = outcome.result;
  const text =
    written.length === 0
      ? 'everything was set up as the sheet says already'
      : `${counted(written.length, 'file')} set up`;
  const lines = [headline(outcome, text, colors), ...written.map(file => `  written  ${file}`)];
  if (written.length > 0 && configuration && configuration.changed.length > 0)
    lines.push(`  changed  ${configuration.changed.join(', ')}`);
  for (const keepsake of keepsakes)
    lines.push(`  kept     ${keepsake}; "undo" puts it back, "tidy" removes it`);
  return withFindings(outcome, lines, colors);
}

/** What setting up would change, as unified diffs. */
export function showDifferences(differences: readonly Difference[], colors: Colors): string {
  if (differences.length === 0) return 'Nothing would change; everything is set up as the sheet says.';
  const paint = (line: string) => {
    const safe = showable(line);
    if (/^(?:---|\+\+\+) /.test(safe)) return colors.bold(safe);
    if (safe.startsWith('+')) return colors.green(safe);
    if (safe.startsWith('-')) return colors.red(safe);
    return safe.startsWith('@@') ? colors.cyan(safe) : safe;
  };
  const drawn = differences.map(({ diff }) => diff.trimEnd().split('\n').map(paint).join('\n'));
  return `${drawn.join('\n')}\n\n${counted(differences.length, 'file')} would change; nothing was written. Secrets are hidden.`;
}

export function showRedirects(outcome: StepOutcome<RedirectsResult>, colors: Colors): string {
  const [first, ...others] = outcome.result.files;
  const lines = [
    headline(outcome, `${outcome.result.from} → ${outcome.result.to}, each path to the same path`, colors),
  ];
  if (first)
    lines.push('', colors.dim(first.rules.trimEnd()), '', `${first.where}`, `  written to ${first.file}`);
  for (const { server, file } of others) lines.push(`  for ${server}: ${file}`);
  return withFindings(outcome, lines, colors);
}

export function showCutover(outcome: StepOutcome<CutoverPlan | undefined>, colors: Colors): string {
  const plan = outcome.result;
  if (!plan)
    return withFindings(outcome, [headline(outcome, 'there is nothing to plan yet', colors)], colors);
  const steps = plan.steps.flatMap(({ when, what, why }, i) => [
    `  ${i + 1}. ${colors.bold(when)}`,
    `     ${what}`,
    `     ${colors.dim(why)}`,
  ]);
  const records = plan.records.flatMap(({ before, after }) => [
    ...(before === undefined ? [] : [colors.red(`  - ${before}`)]),
    colors.green(`  + ${after}`),
  ]);
  return [
    colors.bold('The cutover'),
    ...steps,
    '',
    colors.bold('The record'),
    ...records,
    '',
    colors.bold('What must not change'),
    ...plan.keep.map(line => `  · ${line}`),
    '',
    colors.bold('The way back'),
    ...plan.back.map(line => `  · ${line}`),
  ].join('\n');
}

export function showTidy(outcome: StepOutcome<TidyResult>, colors: Colors): string {
  const { removed, remember } = outcome.result;
  const lines = [
    headline(outcome, `${counted(removed.length, 'thing')} removed`, colors),
    ...removed.map(path => `  ${path}`),
  ];
  return [
    ...lines,
    '',
    colors.bold('Still to do by hand'),
    ...remember.map((line, i) => `  ${i + 1}. ${line}`),
  ].join('\n');
}

export function showUndo(outcome: StepOutcome<UndoResult>, colors: Colors): string {
  const { removed, restored } = outcome.result;
  if (removed.length + restored.length === 0)
    return 'Nothing of this move is at the new end; there is nothing to undo.';
  const lines = [headline(outcome, 'the new end is as it was', colors)];
  for (const place of removed) lines.push(`  removed     ${place}`);
  for (const place of restored) lines.push(`  put back    ${place}`);
  return lines.join('\n');
}

export function showStatus(steps: readonly StepStatus[], colors: Colors): string {
  const paint = {
    'not yet': colors.dim,
    begun: colors.yellow,
    done: colors.green,
    stale: colors.yellow,
    stopped: colors.red,
    failed: colors.red,
  };
  const shown = steps.filter(
    ({ step, state }) => !['undo', 'configure'].includes(step) || state !== 'not yet',
  );
  const rows = shown.map(({ step, state, at, seconds: took, said }) => [
    step,
    paint[state](state),
    at?.replace('T', ' ').slice(0, 16) ?? '',
    took === undefined ? '' : seconds(took),
    cut(said, 70),
  ]);
  const next = steps.find(
    ({ step, state }) => state !== 'done' && !['undo', 'tidy', 'configure'].includes(step),
  );
  const done = count(steps.filter(({ state }) => state === 'done').length);
  const hint = next
    ? `Next: able-porter ${next.step} (or go)`
    : `All ${done} steps are done. When the DNS has spread and all is quiet: able-porter tidy`;
  return `${table(['step', 'state', 'when (UTC)', 'took', ''], rows)}\n${hint}`;
}
