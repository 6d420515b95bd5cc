import { access, rm } from 'node:fs/promises';
import { dirname } from 'node:path';
import { EndError } from '../../../core/errors.js';
import { familyNamed } from '../../../core/site/families/families.js';
import type { DatabaseConnection, DatabaseObject } from '../../../ends/database/database-end.js';
import { checksumOf } from '../../../ends/move-folder/crate-part.js';
import { newDatabaseOf } from '../../move/databases.js';
import { ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, readResult, type StepRun } from '../../move/step.js';
import type { LoadedDatabase } from './loaded.js';
import { ownTables } from './replace-tables.js';

/** What of this move is in the new database. */
export interface DatabaseRemains {
  readonly place: string;
  /** The dump in which what was there before is kept; undefined where nothing was there. */
  readonly keepsake: string | undefined;
}

/** What of this move is in the new database; undefined where nothing was loaded, or it was restored. */
export async function databaseRemains(move: Move): Promise<DatabaseRemains | undefined> {
  const { loaded, databaseKeepsake: kept } = await ledgerOf(move);
  const [place] = loaded;
  if (place === undefined && !kept?.file) return undefined;
  const keepsake = kept?.file !== undefined && (await isThere(kept.file)) ? kept.file : undefined;
  return { place: place ?? kept?.database ?? '', keepsake };
}

/** Drops what was loaded and loads the keepsake. Safe to repeat from any moment. */
export async function restoreDatabase(run: StepRun, { place, keepsake }: DatabaseRemains): Promise<void> {
  const { move } = run;
  const database = newDatabaseOf(move);
  if (database?.text !== place) {
    throw new EndError({
      doing: `Restoring the database ${place}`,
      cause: 'the sheet does not name it any more',
      remedy: 'Name it in new.database again, with its password',
    });
  }
  const sum = keepsake === undefined ? undefined : (await checksumOf(keepsake)).sha256;
  await database.use(async connection => {
    if (keepsake === undefined || sum === undefined) {
      await dropLoaded(move, connection);
      return connection.endLoad();
    }
    let position = await connection.loadPosition();
    if (position?.dump !== sum) {
      await dropLoaded(move, connection);
      position = await connection.beginLoad(sum);
    }
    const server = await connection.server();
    await connection.load(keepsake, position, { bench: move.bench, server, signal: run.signal });
    await connection.endLoad();
  });
  await noteDeed(run, 'undo', { kind: 'database restored', database: place });
}

async function dropLoaded(move: Move, connection: DatabaseConnection): Promise<void> {
  const loaded = (await readResult<{ database?: LoadedDatabase }>(move.folder, 'deliver'))?.result.database;
  const manifest = await move.crate.manifest().catch(() => undefined);
  const prefix = move.sheet.new.database?.prefix ?? manifest?.from.prefix ?? '';
  const programs = loaded?.programs ?? [];
  const names = [...(loaded?.tables ?? []).map(({ table }) => table), ...programs.map(({ name }) => name)];
  const family = familyNamed(manifest?.from.family ?? 'plain');
  const routines = programs.flatMap(({ kind, name }): DatabaseObject[] => {
    const lower = kind.toLowerCase();
    return lower === 'procedure' || lower === 'function' || lower === 'event' ? [{ kind: lower, name }] : [];
  });
  await connection.drop([...ownTables(await connection.tables(), { family, prefix, names }), ...routines]);
}

/** Removes the keepsake, and the note of an interrupted load. */
export async function clearBesideDatabase(move: Move, { keepsake }: DatabaseRemains): Promise<void> {
  if (keepsake !== undefined) await rm(dirname(keepsake), { recursive: true, force: true });
  await newDatabaseOf(move)
    ?.use(connection => connection.endLoad())
    .catch(() => {
      // A server that does not answer any more keeps a table of one row.
    });
}

function isThere(file: string): Promise<boolean> {
  return access(file).then(
    () => true,
    () => false,
  );
}
