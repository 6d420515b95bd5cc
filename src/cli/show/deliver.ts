import { showable } from '../../core/text/display.js';
import { agreeing, count, counted, seconds } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { LoadedDatabase } from '../../steps/deliver/database/loaded.js';
import type { EditDone } from '../../steps/deliver/database/site-data.js';
import type { DeliveredFiles } from '../../steps/deliver/deliver-files.js';
import type { Difference, SetUpResult } from '../../steps/deliver/site/apply.js';
import type { TablesTrial } from '../../steps/deliver/trial.js';
import type { DeliverResult, DeliveryTrial } from '../../steps/deliver.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { fit } from '../terminal/table.js';
import { showFindings } from '../terminal/terminal.js';
import { type Colors, headline, withFindings } from './outcome.js';

export function showDeliver(outcome: StepOutcome<DeliverResult>, colors: Colors): string {
  const { files, dump, parts, configuration, fitted, edits, keepsakes } = outcome.result;
  const lines = [headline(outcome, 'everything is in its place', colors)];
  if (files)
    lines.push(
      ...showFiles(
        files,
        outcome.findings.some(({ code }) => code === 'read-back-sample'),
      ),
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
  if (fitted.length > 0) lines.push(`  adapted        ${fitted.join(', ')}`);
  for (const [i, n] of edits.entries()) lines.push(`  edit ${i + 1}         in ${counted(n, 'place')}`);
  for (const keepsake of keepsakes)
    lines.push(`  kept           ${keepsake}; "undo" restores it, "tidy" removes it`);
  lines.push(...showSwap(outcome.result.swap));
  return withFindings(outcome, lines, colors);
}

/** How many files were sent and how they were compared, and how many were there already. */
function showFiles(
  { place, count: all, bytes: size, again, comparedBy, way }: DeliveredFiles,
  sample: boolean,
): string[] {
  const sent = all - again;
  const checked = sample ? 'a sample of them checked' : 'each checked';
  const lines = [`  files          ${place} – ${counted(all, 'file')} (${bytes(size)})`];
  if (sent > 0)
    lines.push(
      `                 ${counted(sent, 'file')} sent, ${checked}${way ? `; transferred ${way}` : ''}`,
    );
  if (again > 0)
    lines.push(
      `                 ${counted(again, 'file was', 'files were')} there already, the same by ${comparedBy}`,
    );
  return lines;
}

/** How long it took to put everything in its place. */
function showSwap(swap: DeliverResult['swap']): string[] {
  if (!swap) return [];
  const page = swap.closed > 0 ? `; visitors saw a maintenance page for ${seconds(swap.closed)}` : '';
  return [`  swapped        in ${seconds(swap.seconds)}${page}`];
}

/** The result of loading the database, line by line. */
function showLoaded(loaded: LoadedDatabase | undefined): string[] {
  if (!loaded) return [];
  const lines = [`  database       ${loaded.database} – ${loadedText(loaded)}`];
  for (const made of loaded.made) lines.push(`                 created ${made}`);
  for (const [what, n] of Object.entries(loaded.fitted))
    lines.push(`                 adapted: ${what} (${counted(n, 'time')})`);
  lines.push(...showEdits(loaded.edits));
  if (loaded.keepsake !== undefined)
    lines.push(
      `  kept           ${counted(loaded.dropped.length, 'table')} of before, in ${loaded.keepsake}; "undo" restores what is kept, "tidy" removes it`,
    );
  return lines;
}

function loadedText({ tables, rows, loaded, same, changing, changedRows, how }: LoadedDatabase): string {
  if (how === 'not loaded') return 'nothing was loaded';
  const all = `${counted(tables.length, 'table')} with ${counted(rows, 'row')}`;
  const equal = tables.filter(one => one.equal).length;
  if (same + changing === 0) {
    const verified = equal === tables.length ? 'every table' : `only ${equal} of them`;
    return `${all}; ${verified} read back equal`;
  }
  const parts = [
    ...(changing > 0
      ? [`${counted(changedRows, 'row')} of ${counted(changing, 'table')} changed and read back equal`]
      : []),
    ...(loaded > 0 ? [`${counted(loaded, 'table')} loaded and read back equal`] : []),
    `${counted(same, 'table')} the same as before`,
  ];
  return `${all}: ${parts.join(', ')}`;
}

/** What is corrected in the data of the new site. */
function showEdits(edits: readonly EditDone[]): string[] {
  return edits.map(({ what, rows, before, after, held, table: name }) => {
    const named = held.length > 0 ? `: ${held.join(', ')}` : '';
    const change = before === '' && after === '' ? named : `: ${fit(before, 40)} → ${fit(after, 40)}`;
    return `  corrected      ${what} – ${counted(rows, 'row')} of ${name}${change}`;
  });
}

export function showSetUp(outcome: StepOutcome<SetUpResult>, colors: Colors): string {
  const { configuration, written, removed, keepsakes } = outcome.result;
  const changes = written.length + removed.length;
  const text =
    changes === 0 ? 'everything was set up as the sheet says already' : `${counted(changes, 'file')} set up`;
  const lines = [
    headline(outcome, text, colors),
    ...written.map(file => `  written  ${file}`),
    ...removed.map(file => `  removed  ${file}`),
  ];
  if (changes > 0 && configuration && configuration.changed.length > 0)
    lines.push(`  changed  ${configuration.changed.join(', ')}`);
  for (const keepsake of keepsakes)
    lines.push(`  kept     ${keepsake}; "undo" restores it, "tidy" removes it`);
  return withFindings(outcome, lines, colors);
}

/** What setting up would change, as unified diffs. */
/** What of a database would be replaced, and what would stay. */
function standingTables({ replaced, update, stay }: TablesTrial): string {
  const others = stay > 0 ? `; ${counted(stay, 'other table')} would stay` : '';
  if (replaced.length === 0) return `no table is there that they would replace${others}`;
  return update
    ? `${counted(replaced.length, 'table')} of an earlier delivery ${agreeing(replaced.length, 'is', 'are')} there; only what changed would be put there${others}`
    : `they would replace ${counted(replaced.length, 'table')} there, which would be kept${others}`;
}

/** What a delivery would do. */
export function showDeliveryTrial(
  { files, tables, isRewritten, dump, differences, findings }: DeliveryTrial,
  colors: Colors,
): string {
  const lines: string[] = [];
  if (files) {
    const same = files.same > 0 ? `; ${count(files.same)} of them are there with the same size and time` : '';
    lines.push(
      `Files      ${counted(files.files, 'file')} (${bytes(files.bytes)}) for ${files.place}${same}`,
    );
  }
  if (tables) {
    lines.push(
      `Database   ${counted(tables.tables, 'table')} with ${counted(tables.rows, 'row')} for ${tables.place}`,
      `           ${standingTables(tables)}`,
    );
  }
  if (!isRewritten)
    lines.push(
      '           What the new site has written into its tables was not looked for: run "able-porter rewrite" first.',
    );
  if (dump) lines.push(`Dump       ${counted(dump.tables, 'table')} into ${dump.place}, for you to load`);
  if (differences) lines.push('', showDifferences(differences, colors));
  else lines.push('', 'Dry run: nothing was written.');
  if (findings.length > 0) lines.push('', showFindings(findings, colors));
  return lines.join('\n');
}

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
  return `${drawn.join('\n')}\n\n${counted(differences.length, 'file')} would change; nothing was written. Comments, and every value that may be a secret, are hidden.`;
}
