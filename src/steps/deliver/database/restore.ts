import { join } from 'node:path';
import {
  doneNoteName,
  loadNoteName,
  stagedName,
  trialTables,
} from '../../../core/database/reserved-names.js';
import { DamageError, EndError } from '../../../core/errors.js';
import { familyNamed } from '../../../core/site/families/families.js';
import { counted } from '../../../core/text/numbers.js';
import type { DatabaseConnection, DatabaseEnd, DatabaseObject } from '../../../ends/database/database-end.js';
import { checksumOf } from '../../../ends/move-folder/crate-part.js';
import { newDatabaseOf } from '../../move/databases.js';
import { type KeptData, ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, readResult, type StepRun } from '../../move/step.js';
import { StateFolder } from './delivered-state.js';
import type { LoadedDatabase } from './loaded.js';
import { exchangeRows } from './put-rows.js';
import {
  type KeepTablesWish,
  type KeptTables,
  keepTables,
  programsOfKeepsake,
  sumKept,
} from './swap-tables.js';
import { type WrittenSince, writtenSince } from './written-since.js';

/** What of this move is in the new database. */
export interface DatabaseRemains {
  readonly place: string;
  /** The tables that deliveries have put there. */
  readonly tables: readonly string[];
  /** What was there before the first delivery; undefined where nothing was. */
  readonly first: KeptData | undefined;
}

/** What of this move is in the new database; undefined where nothing was loaded, or it was restored. */
export async function databaseRemains(move: Move): Promise<DatabaseRemains | undefined> {
  const ledger = await ledgerOf(move);
  // Where the sheet has named another database in between, only the one that it names now can be restored.
  const id = newDatabaseOf(move)?.id ?? '';
  const loaded = ledger.loaded.has(id) ? ([id, ledger.loaded.get(id)!] as const) : [...ledger.loaded][0];
  if (!loaded) return undefined;
  const [place, tables] = loaded;
  return { place, tables: [...tables], first: ledger.firstOf(place) };
}

/** Whether something of a database is kept. */
export function holdsAnything(kept: KeptData | undefined): kept is KeptData {
  return kept !== undefined && kept.tables.length > 0;
}

/** The database of the sheet. @throws EndError where it is another one than what is to be restored */
export function databaseNamed(move: Move, place: string): DatabaseEnd {
  const database = newDatabaseOf(move);
  if (database?.id === place) return database;
  throw new EndError({
    doing: `Restoring the database ${place}`,
    cause: 'the sheet does not name it any more',
    remedy: 'Name it in new.database again, with its password',
  });
}

/** What the new site has written into the tables that were delivered; undefined where that is not known. */
export async function writtenIntoDelivered(
  run: StepRun,
  { place }: Pick<DatabaseRemains, 'place'>,
): Promise<WrittenSince | undefined> {
  const { move } = run;
  const folder = new StateFolder(move, 'delivered');
  const state = await folder.read();
  if (state?.database !== place || (await isRestoring(run))) return undefined;
  const manifest = await move.crate.manifest().catch(() => undefined);
  const family = familyNamed(manifest?.from.family ?? 'plain');
  const prefix = prefixOf(move, manifest?.from.prefix);
  return databaseNamed(move, place).use(connection =>
    writtenSince(run, connection, { family, prefix, state, folder }),
  );
}

function prefixOf({ sheet }: Move, old: string | undefined): string {
  return sheet.new.database?.prefix ?? old ?? '';
}

/**
 * Takes away what was loaded and puts back what was there before. Safe to repeat from any moment.
 * @param keeps the number under which what is taken away is kept; left out where nobody has changed it
 */
export async function restoreDatabase(
  run: StepRun,
  remains: DatabaseRemains,
  keeps: number | undefined,
): Promise<void> {
  const { move } = run;
  const { place, first } = remains;
  const database = databaseNamed(move, place);
  // Before anything is taken away, what is put back must be whole.
  if (first) await verifyKept(move, database, first);
  await database.use(async connection => {
    await exchange(run, database, connection, remains, keeps);
    if (first?.kind === 'tables kept') {
      for (const constraint of first.constraints) await connection.renameConstraint(constraint);
      await connection.makePrograms(await programsOfKeepsake(move, first));
    }
    if (first?.kind === 'dump kept') await putBackFile(run, connection, first);
    await endLoads(move, connection);
  });
  await noteDeed(run, 'undo', { kind: 'database restored', database: place });
  await new StateFolder(move, 'delivered').remove();
}

/**
 * Finishes what an interrupted `undo` had done to the database and not noted. Otherwise the next delivery would take what was
 * there before the first one for what was delivered, and keep it as something else.
 */
export async function settleRestoration(run: StepRun): Promise<void> {
  const { move } = run;
  const { loaded } = await ledgerOf(move);
  const delivered = new StateFolder(move, 'delivered');
  const state = await delivered.read();
  if (state && !loaded.has(state.database)) await delivered.remove();
  const remains = await databaseRemains(move);
  if (remains && (await isRestoring(run))) await restoreDatabase(run, remains, undefined);
}

/** Whether an interrupted `undo` has begun to put back what was in the database before the first delivery. */
async function isRestoring({ move }: StepRun): Promise<boolean> {
  const ledger = await ledgerOf(move);
  const { state } = ledger.lastOf('undo');
  const database = newDatabaseOf(move);
  const first = database && ledger.firstOf(database.id);
  if (!first || (state !== 'begun' && state !== 'failed')) return false;
  return database.use(async connection => {
    if (first.kind === 'dump kept')
      return (await connection.loadPosition(loadNoteName('undo'))) !== undefined;
    return first.kind === 'tables kept' && isBack(first, await namesThere(connection));
  });
}

async function namesThere(connection: DatabaseConnection): Promise<Set<string>> {
  return new Set((await connection.tables()).map(({ name }) => name));
}

/** Whether tables that were kept are in their places again; one statement puts all of them there. */
function isBack({ tables }: KeptTables, there: ReadonlySet<string>): boolean {
  return tables.some(({ name, as }) => there.has(name) && !there.has(as));
}

/** @throws DamageError where what is kept is not there any more, or not as it was when it was kept */
async function verifyKept(move: Move, database: DatabaseEnd, kept: KeptData): Promise<void> {
  const damaged = (cause: string) =>
    new DamageError({
      doing: `Restoring the database ${database.text}`,
      cause,
      remedy: 'Nothing was changed. Put it back from a backup, then undo again',
    });
  if (kept.kind === 'rows kept') return;
  if (kept.kind === 'dump kept') {
    const { sha256 } = await checksumOf(move.folder.at(kept.file));
    if (sha256 !== kept.sha256) throw damaged(`${move.folder.at(kept.file)} is not as it was written`);
    return;
  }
  await programsOfKeepsake(move, kept);
  const sums = (await ledgerOf(move)).keepsakes.get(kept.number)?.sums.get(kept.database);
  await database.use(async connection => {
    const there = await namesThere(connection);
    const missing = kept.tables.filter(({ as }) => !there.has(as));
    // A restoration that was interrupted has put all of them in their places at once.
    if (isBack(kept, there) && missing.length === kept.tables.length) return;
    if (missing.length > 0)
      throw damaged(
        `${missing.length} of ${kept.tables.length} tables of keepsake ${kept.number} are not there any more: ${missing[0]!.as}`,
      );
    const now = sums && (await connection.checksums([...sums.keys()]));
    for (const [table, sum] of sums ?? [])
      if (now?.get(table) !== sum) throw damaged(`${table} is not as it was when it was kept`);
  });
}

/**
 * Takes what was delivered out of its place, into a keepsake where it is worth one, and puts tables that are kept there, in one
 * statement.
 */
async function exchange(
  run: StepRun,
  database: DatabaseEnd,
  connection: DatabaseConnection,
  { tables, first }: DatabaseRemains,
  keeps: number | undefined,
): Promise<void> {
  const { move } = run;
  const there = await connection.tables();
  const names = new Set(there.map(({ name }) => name));
  const back = first?.kind === 'tables kept' ? first.tables : [];
  // Tables that are back already were there before; a repeated run must not take them away.
  const areBack = back.some(({ as }) => !names.has(as));
  const waiting = tables.map(stagedName);
  const dropWaiting = () => connection.drop(waiting.map((name): DatabaseObject => ({ kind: 'table', name })));
  if (areBack) return dropWaiting();
  await dropWaiting();
  await connection.drop(await programsDelivered(move));
  const own = there.filter(({ name }) => tables.includes(name));
  const kept =
    keeps === undefined
      ? own.map(({ name }) => ({ name, as: stagedName(name) }))
      : await keepDelivered(run, database, connection, { replaced: own, number: keeps, by: 'undo' });
  await connection.rename([
    ...kept.map(({ name, as }) => ({ from: name, to: as })),
    ...back.map(({ name, as }) => ({ from: as, to: name })),
  ]);
  if (keeps !== undefined)
    await sumKept(run, 'undo', connection, { database: database.id, number: keeps, tables: kept });
  await dropWaiting();
}

/** Views and programs that a delivery has made, but for triggers, which go with their tables. */
async function programsDelivered({ folder }: Move): Promise<DatabaseObject[]> {
  const loaded = (await readResult<{ database?: LoadedDatabase }>(folder, 'deliver'))?.result.database;
  return (loaded?.programs ?? []).flatMap(({ kind, name }): DatabaseObject[] => {
    const lower = kind.toLowerCase();
    const isOne = lower === 'view' || lower === 'procedure' || lower === 'function' || lower === 'event';
    return isOne ? [{ kind: lower, name }] : [];
  });
}

async function keepDelivered(
  run: StepRun,
  database: DatabaseEnd,
  connection: DatabaseConnection,
  { replaced, number, by }: Pick<KeepTablesWish, 'replaced' | 'number' | 'by'>,
): Promise<KeptTables['tables']> {
  const foreignKeys = await connection.foreignKeys();
  const wish = { replaced, foreignKeys, number, by, isSpare: false };
  const { tables } = await keepTables(run, 'undo', database, connection, wish);
  if (by === 'undo') await keepState(run.move, number);
  return tables;
}

/** Keeps what is known of the rows that were delivered, so that what was written since can be seen again later. */
async function keepState(move: Move, number: number): Promise<void> {
  const state = new StateFolder(move, 'delivered');
  if (await state.read()) await state.copyTo(new StateFolder(move, `keepsake/${number}/delivered`));
}

/** Loads a dump that is kept. Safe to repeat from any moment. */
async function putBackFile(
  { move, signal }: StepRun,
  connection: DatabaseConnection,
  { file, sha256 }: Extract<KeptData, { kind: 'dump kept' }>,
): Promise<void> {
  const note = loadNoteName('undo');
  let position = await connection.loadPosition(note);
  if (position?.dump !== sha256) position = await connection.beginLoad(note, sha256);
  const server = await connection.server();
  await connection.load(move.folder.at(file), position, { bench: move.bench, server, signal });
  await connection.endLoad(note);
}

/** Removes the notes of loads. */
async function endLoads(move: Move, connection: DatabaseConnection): Promise<void> {
  const manifest = await move.crate.manifest().catch(() => undefined);
  const prefix = prefixOf(move, manifest?.from.prefix);
  for (const name of [loadNoteName(prefix), doneNoteName(prefix)]) await connection.endLoad(name);
}

/**
 * Exchanges tables that are kept with those that have their names now, which are kept under another number. What was known of
 * the rows of a delivery comes back with them.
 */
export async function exchangeData(run: StepRun, kept: KeptData, keeps: number): Promise<void> {
  const { move } = run;
  const database = databaseNamed(move, kept.database);
  if (kept.kind === 'rows kept') return exchangeRows(run, database, kept, keeps);
  await verifyKept(move, database, kept);
  const names = kept.kind === 'tables kept' ? kept.tables.map(({ name }) => name) : kept.tables;
  const before = new StateFolder(move, `keepsake/${kept.number}/delivered`);
  await database.use(async connection => {
    const there = await connection.tables();
    const areBack =
      kept.kind === 'tables kept' && kept.tables.some(({ as }) => !there.some(({ name }) => name === as));
    if (!areBack) {
      const replaced = there.filter(({ name }) => names.includes(name));
      const isOurs = (await ledgerOf(move)).loaded.has(kept.database);
      const by = isOurs ? 'undo' : 'first delivery';
      const tables = await keepDelivered(run, database, connection, { replaced, number: keeps, by });
      await connection.rename([
        ...tables.map(({ name, as }) => ({ from: name, to: as })),
        ...(kept.kind === 'tables kept' ? kept.tables.map(({ name, as }) => ({ from: as, to: name })) : []),
      ]);
      await sumKept(run, 'undo', connection, { database: database.id, number: keeps, tables });
    }
    if (kept.kind === 'tables kept') {
      for (const constraint of kept.constraints) await connection.renameConstraint(constraint);
      await connection.makePrograms(await programsOfKeepsake(move, kept));
    } else await putBackFile(run, connection, kept);
  });
  await noteDeed(run, 'undo', { kind: 'loaded', database: kept.database, tables: names });
  if (await before.read()) await before.replace(new StateFolder(move, 'delivered'));
}

/** The tables of ours that are in the new database: kept ones, waiting ones, notes. Whose they are is seen by their names. */
export async function ownTablesThere(move: Move, connection: DatabaseConnection): Promise<string[]> {
  const ledger = await ledgerOf(move);
  const manifest = await move.crate.manifest().catch(() => undefined);
  const prefix = prefixOf(move, manifest?.from.prefix);
  // A run that is killed may leave any of these.
  const names = new Set<string>([
    loadNoteName(prefix),
    doneNoteName(prefix),
    loadNoteName('undo'),
    ...trialTables,
  ]);
  for (const tables of ledger.loaded.values()) for (const table of tables) names.add(stagedName(table));
  for (const { data } of ledger.keepsakes.values())
    for (const one of data) if (one.kind === 'tables kept') for (const { as } of one.tables) names.add(as);
  return (await connection.tables()).map(({ name }) => name).filter(name => names.has(name));
}

/** Where what is kept of a database is, in words. */
export function keptDataText(move: Move, kept: KeptData): string {
  if (kept.kind === 'tables kept') {
    const [first, ...others] = kept.tables;
    return `${kept.database}: ${counted(kept.tables.length, 'table')}, as ${first?.as}${others.length > 0 ? ' and so on' : ''}`;
  }
  if (kept.kind === 'rows kept')
    return `${kept.database}: ${counted(kept.rows, 'row')} in ${join(move.folder.folder, kept.file)}`;
  return move.folder.at(kept.file);
}
