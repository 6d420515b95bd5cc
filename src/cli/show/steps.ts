import { showable } from '../../core/text/display.js';
import { counted, moment, seconds } from '../../core/text/numbers.js';
import { sizeText as bytes } from '../../core/text/sizes.js';
import type { StepOutcome } from '../../steps/move/step.js';
import type { CrateArchive, VerifiedCrate } from '../../steps/pack/archive.js';
import type { PackResult } from '../../steps/pack.js';
import type { MoveStatus } from '../../steps/status.js';
import type { StoreResult } from '../../steps/store/store-crate.js';
import type { TidyResult } from '../../steps/tidy.js';
import type { ListedKeepsake, UndoResult } from '../../steps/undo.js';
import { fit, table } from '../terminal/table.js';
import { type Colors, headline, withFindings } from './outcome.js';

export function showPack(
  outcome: StepOutcome<PackResult> & {
    archive?: CrateArchive | undefined;
    stored?: StoreResult | undefined;
  },
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
  const { stored } = outcome;
  if (stored) lines.push(`  ${storedText(stored)}`);
  return withFindings(outcome, lines, colors);
}

/** A crate that is at a store, in a line. */
export function storedText({ wasThere, parts, bytes: size, place, name }: StoreResult): string {
  const how = wasThere ? 'was stored already' : 'stored';
  return `${how} as ${name} at ${place} (${counted(parts, 'part')}, ${bytes(size)}, encrypted)`;
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

export function showTidy(outcome: StepOutcome<TidyResult>, colors: Colors): string {
  const { removed, proven, remember, left, permanent } = outcome.result;
  const lines = [
    headline(outcome, `${counted(removed.length, 'thing')} removed; the move is closed`, colors),
    ...removed.map(path => `  removed     ${path}`),
    ...proven.map(
      ({ what, found }) => `  looked for  ${what}: ${found.length === 0 ? 'none' : found.join(', ')}`,
    ),
    ...(permanent === undefined ? [] : [`  permanent   the redirects in ${permanent}`]),
    ...left.map(path => `  left here   ${path}`),
  ];
  return [
    withFindings(outcome, lines, colors),
    '',
    colors.bold('Still to do by hand'),
    ...remember.map((line, i) => `  ${i + 1}. ${line}`),
  ].join('\n');
}

export function showUndo(outcome: StepOutcome<UndoResult>, colors: Colors): string {
  const { removed, restored, kept } = outcome.result;
  if (outcome.state !== 'stopped' && removed.length + restored.length === 0)
    return withFindings(
      outcome,
      ['Nothing of this move is at the new end; there is nothing to undo.'],
      colors,
    );
  const lines = [headline(outcome, 'the new end is as it was', colors)];
  for (const place of removed) lines.push(`  removed     ${place}`);
  for (const place of restored) lines.push(`  restored    ${place}`);
  for (const place of kept) lines.push(`  kept        ${place}`);
  return withFindings(outcome, lines, colors);
}

/** What is kept, by number. */
export function showKeepsakes(keepsakes: readonly ListedKeepsake[], colors: Colors): string {
  if (keepsakes.length === 0) return 'Nothing is kept.';
  const lines = keepsakes.flatMap(({ number, at, what, places, fits }) => [
    `${colors.bold(`keepsake ${number}`)}  ${moment(at)}, ${what}`,
    ...(fits === false
      ? ['  it does not fit the site that is there now; take from it by hand what you need']
      : []),
    ...places.map(place => `  ${place}`),
  ]);
  const last = keepsakes.findLast(({ fits }) => fits);
  const later = last ? `, "undo --keepsake ${last.number}" a later state` : '';
  const hint = `"undo" restores what was there before the first delivery${later}.`;
  return [...lines, '', hint].join('\n');
}

export function showStatus({ life, steps, next }: MoveStatus, colors: Colors): string {
  const paint = {
    'not yet': colors.dim,
    begun: colors.yellow,
    done: colors.green,
    planned: colors.yellow,
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
    at === undefined ? '' : moment(at),
    took === undefined ? '' : seconds(took),
    fit(said, 70),
  ]);
  const lives = {
    open: 'The move is open: visitors use the old site.',
    live: 'The move is live: visitors use the new site.',
    closed: 'The move is closed.',
  };
  return `${lives[life]}\n${table(['step', 'state', 'when', 'took', ''], rows)}\nNext: ${next}`;
}
