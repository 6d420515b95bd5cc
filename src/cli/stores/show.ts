import { UsageError } from '../../core/errors.js';
import { isStoredName } from '../../core/store/stored-crate.js';
import { showable } from '../../core/text/display.js';
import { counted, moment } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import type { ListedCrate, VerifiedStored } from '../../steps/store/crates.js';
import type { StoreResult } from '../../steps/store/store-crate.js';
import type { Colors } from '../show/outcome.js';
import { storedText } from '../show/steps.js';
import { table } from '../terminal/table.js';

export function showStored(stored: StoreResult, colors: Colors): string {
  return `${colors.green('The crate')} ${storedText(stored)}`;
}

export function showCrates(store: string, crates: readonly ListedCrate[], colors: Colors): string {
  if (crates.length === 0) return `There is no crate at ${store}.`;
  const notes = crates.flatMap(({ name, crate, damage }) => [
    ...(crate?.note === undefined ? [] : [`  ${name}: ${showable(crate.note)}`]),
    ...(damage === undefined ? [] : [`  ${name}: ${showable(damage)}`]),
  ]);
  const rows = crates.map(({ name, crate, damage, bytes }) => [
    name,
    crate ? moment(crate.taken) : '',
    crate ? moment(crate.stored) : colors.yellow(damage === undefined ? 'not whole' : 'damaged'),
    sizeText(bytes),
    crate ? counted(crate.counts.files, 'file') : '',
    crate ? counted(crate.counts.tables, 'table') : '',
    crate ? showable(crate.from.address) : '',
  ]);
  const heads = ['crate', 'taken', 'stored', 'size', 'files', 'tables', 'of'];
  return [
    `${counted(crates.length, 'crate')} at ${store}`,
    '',
    table(heads, rows, [3]),
    ...(notes.length > 0 ? [colors.bold('Notes'), ...notes] : []),
  ].join('\n');
}

export function showVerifiedStored(
  store: string,
  { name, crate, parts, bytes }: VerifiedStored,
  colors: Colors,
): string {
  return [
    `${colors.green('The crate is whole')}: ${counted(parts, 'part')} (${sizeText(bytes)}) read and opened; all of it is what its checksums say`,
    `  ${store}/${name}`,
    `  of ${showable(crate.from.address)}, taken ${moment(crate.taken)}`,
  ].join('\n');
}

export function showRemoved(store: string, name: string, removed: number, colors: Colors): string {
  return `${colors.green('Removed')} ${name} from ${store} (${counted(removed, 'file')})`;
}

/** @throws UsageError where no crate is named: none is removed unnamed */
export function named(name: string | undefined): string {
  if (name !== undefined && isStoredName(name)) return name;
  throw new UsageError({
    doing: 'Removing a crate',
    cause: name === undefined ? 'none is named' : `"${name}" is no name of a crate`,
    remedy: 'Name it as "able-porter crates" does',
  });
}
