import { readFile } from 'node:fs/promises';
import { join } from 'node:path';
import {
  doneNoteName,
  keptName,
  loadNoteName,
  reservedConstraint,
} from '../../../core/database/reserved-names.js';
import type { LaterStatement, Staging } from '../../../core/database/staging.js';
import { DamageError } from '../../../core/errors.js';
import type { KeptBy, KeptConstraint } from '../../../core/journal.js';
import type {
  DatabaseConnection,
  DatabaseEnd,
  Rename,
  SeenServer,
  StoredProgram,
} from '../../../ends/database/database-end.js';
import type { KeptData } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import type { IncomingTables, Replacement } from '../../move/replacement.js';
import { noteDeed, type StepRun } from '../../move/step.js';

/** Tables that are kept in their database under other names. */
export type KeptTables = Extract<KeptData, { kind: 'tables kept' }>;

/** What is about to be swapped. */
export interface Swap {
  readonly staging: Staging;
  readonly incoming: IncomingTables;
  readonly replacement: Replacement;
  readonly server: SeenServer;
  /** The number of the keepsake, and why it is kept. */
  readonly keepsake: KeepsakeWish;
}

/** How what is replaced is kept: its number, why, and whether it may go once the new is there. */
interface KeepsakeWish {
  readonly number: number;
  readonly by: KeptBy;
  readonly isSpare: boolean;
}

/**
 * Puts the staged tables in their places and what was there into a keepsake, in one statement; then makes views and
 * programs. Safe to repeat from any moment.
 * @returns those that this account may not make
 */
export async function swapTables(
  run: StepRun,
  database: DatabaseEnd,
  connection: DatabaseConnection,
  { staging, incoming, replacement, server, keepsake }: Swap,
): Promise<readonly LaterStatement[]> {
  const { prefix, names } = incoming;
  const there = new Set((await connection.tables()).map(({ name }) => name));
  if (!(there.has(doneNoteName(prefix)) && (await isSwapped(connection, prefix)))) {
    const kept = await keepTables(run, 'deliver', database, connection, { ...replacement, ...keepsake });
    const renames: Rename[] = [
      ...kept.tables.map(({ name, as }) => ({ from: name, to: as })),
      ...names.map(name => ({ from: staging.of(name), to: name })).filter(({ from }) => there.has(from)),
      { from: loadNoteName(prefix), to: doneNoteName(prefix) },
    ];
    await connection.rename(renames);
  }
  // A name that a stranger's table has stays its own.
  const own = staging.constraints;
  const keys = own.length > 0 ? await connection.foreignKeys() : [];
  const taken = new Set(keys.map(({ name }) => name.toLowerCase()));
  for (const constraint of own)
    if (!taken.has(constraint.name.toLowerCase())) await connection.renameConstraint(constraint);
  return (await connection.runLater(staging.later, server)).denied;
}

/** Whether the tables of a load are in their places, and only what comes after them may be missing. */
async function isSwapped(connection: DatabaseConnection, prefix: string): Promise<boolean> {
  return (await connection.loadPosition(doneNoteName(prefix))) !== undefined;
}

/** Ends a load whose tables are in their places. */
export async function endSwap(connection: DatabaseConnection, prefix: string): Promise<void> {
  await Promise.all([doneNoteName(prefix), loadNoteName(prefix)].map(note => connection.endLoad(note)));
}

/** Tables that are to be kept, and how. */
export type KeepTablesWish = KeepsakeWish & Pick<Replacement, 'replaced' | 'foreignKeys'>;

/**
 * Makes tables ready to be kept under other names: views and triggers, which must have their names for the new ones, are
 * written down and removed, and foreign keys get names of our own.
 */
export async function keepTables(
  run: StepRun,
  step: 'deliver' | 'undo',
  database: DatabaseEnd,
  connection: DatabaseConnection,
  { replaced, foreignKeys, number, by, isSpare }: KeepTablesWish,
): Promise<Omit<KeptTables, 'kind'>> {
  const tables = replaced.filter(({ kind }) => kind === 'table').map(({ name }) => name);
  const views = replaced.filter(({ kind }) => kind === 'view').map(({ name }) => name);
  const programs = await connection.programs(new Set(tables), views);
  const kept = {
    database: database.id,
    number,
    by,
    isSpare,
    tables: tables.map(name => ({ name, as: keptName(name, number) })),
    constraints: await constraintsOf(connection, tables, foreignKeys),
    programs: await writePrograms(run.move, number, programs),
  };
  await noteDeed(run, step, { kind: 'tables kept', ...kept });
  await connection.dropPrograms(programs);
  for (const { table, name, now, definition } of kept.constraints)
    await connection.renameConstraint({ table, name: now, now: name, definition });
  return kept;
}

/** Foreign keys whose names the new tables may have. Those that a server makes from the table's name follow it. */
async function constraintsOf(
  connection: DatabaseConnection,
  tables: readonly string[],
  foreignKeys: Replacement['foreignKeys'],
): Promise<KeptConstraint[]> {
  const own = foreignKeys.filter(({ table, isElsewhere }) => !isElsewhere && tables.includes(table));
  const constraints: KeptConstraint[] = [];
  for (const { table, name } of own) {
    if (/_ibfk_\d+$/.test(name) && name.startsWith(`${table}_ibfk_`)) continue;
    const definition = await connection.constraintDefinition(table, name);
    if (definition !== undefined)
      constraints.push({ table, name, now: reservedConstraint(table, name), definition });
  }
  return constraints;
}

async function writePrograms(
  move: Move,
  number: number,
  programs: readonly StoredProgram[],
): Promise<string | undefined> {
  if (programs.length === 0) return undefined;
  const name = join('keepsake', String(number), 'programs.json');
  await move.folder.write(name, JSON.stringify(programs, undefined, 1));
  return name;
}

/** The views and triggers of a keepsake. @throws DamageError where they cannot be read */
export async function programsOfKeepsake(
  move: Move,
  { programs }: Pick<KeptTables, 'programs'>,
): Promise<StoredProgram[]> {
  if (programs === undefined) return [];
  try {
    return JSON.parse(await readFile(move.folder.at(programs), 'utf8')) as StoredProgram[];
  } catch (cause) {
    throw new DamageError(
      {
        doing: `Reading ${move.folder.at(programs)}`,
        cause: 'the views and triggers of the keepsake cannot be read',
        remedy: 'Put the file back from a backup of the move folder; nothing was changed',
      },
      { cause },
    );
  }
}

/** Notes what the server computes of tables that were kept, so that they can be known to be whole when they are restored. */
export async function sumKept(
  run: StepRun,
  step: 'deliver' | 'undo',
  connection: DatabaseConnection,
  { database, number, tables }: Pick<KeptTables, 'database' | 'number' | 'tables'>,
): Promise<void> {
  if (tables.length === 0) return;
  const sums = Object.fromEntries(await connection.checksums(tables.map(({ as }) => as)));
  await noteDeed(run, step, { kind: 'tables summed', database, number, sums });
}
