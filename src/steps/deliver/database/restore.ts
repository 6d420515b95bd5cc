import { access, rm } from 'node:fs/promises';
import { dirname } from 'node:path';
import { shownDatabase } from '../../../core/database/place.js';
import { EndError } from '../../../core/errors.js';
import { familyNamed } from '../../../core/site/families/families.js';
import { quoteName } from '../../../core/sql/column.js';
import { bytes, tablesOf } from '../../../ends/database/server/catalog.js';
import { beginLoad, endLoad, loadDump, loadTable, positionOf } from '../../../ends/database/server/load.js';
import { serverOf } from '../../../ends/database/server/probe.js';
import { type DatabaseSession, withDatabase } from '../../../ends/database/server/session.js';
import { checksumOf } from '../../../ends/move-folder/crate-part.js';
import { newDatabaseOf } from '../../move/databases.js';
import type { Move } from '../../move/open.js';
import { noteDone, readResult, type StepRun } from '../../move/step.js';
import type { LoadedDatabase } from './load.js';
import { keptDatabase, loadedPlaces, ownTables } from './replace-tables.js';

/** What of this move stands in the new database. */
export interface DatabaseRemains {
  readonly place: string;
  /** The dump in which what stood there is kept; undefined where nothing stood there. */
  readonly keepsake: string | undefined;
}

/** What of this move stands in the new database; undefined where nothing was loaded, or it was put back. */
export async function databaseRemains(move: Move): Promise<DatabaseRemains | undefined> {
  const journal = await move.folder.readJournal();
  const [place] = loadedPlaces(journal);
  const kept = keptDatabase(journal);
  if (place === undefined && !kept?.file) return undefined;
  const file = kept?.file || undefined;
  const there = file !== undefined && (await isThere(file));
  return { place: place ?? kept!.of, keepsake: there ? file : undefined };
}

/** Drops what was loaded and loads the keepsake. Safe to do again from any moment. */
export async function putBackDatabase(run: StepRun, { place, keepsake }: DatabaseRemains): Promise<void> {
  const { move } = run;
  const way = newDatabaseOf(move);
  if (!way || shownDatabase(way.place) !== place) {
    throw new EndError({
      doing: `Putting back the database ${place}`,
      cause: 'the sheet does not name it any more',
      remedy: 'Name it in new.database again, with its password',
    });
  }
  const sum = keepsake === undefined ? undefined : (await checksumOf(keepsake)).sha256;
  await withDatabase(way, async session => {
    const begun = sum === undefined ? undefined : await positionOf(session);
    if (begun?.dump !== sum || begun === undefined) {
      await dropLoaded(move, session);
      if (sum === undefined) return endLoad(session);
      await beginLoad(session, sum);
    }
    const server = await serverOf(session, way.place.name);
    await loadDump(session, keepsake!, (await positionOf(session))!, { server, signal: run.signal });
    await endLoad(session);
  });
  await noteDone(run, 'undo', { databasePutBack: place });
}

async function dropLoaded(move: Move, session: DatabaseSession): Promise<void> {
  const standing = await tablesOf(session);
  const loaded = (await readResult<{ database?: LoadedDatabase }>(move.folder, 'deliver'))?.result.database;
  const manifest = await move.crate.manifest().catch(() => undefined);
  const prefix = move.sheet.new.database?.prefix ?? manifest?.from.prefix ?? '';
  const programs = loaded?.programs ?? [];
  const names = [...(loaded?.tables ?? []).map(({ table }) => table), ...programs.map(({ name }) => name)];
  const family = familyNamed(manifest?.from.family ?? 'plain');
  await session.run('SET FOREIGN_KEY_CHECKS = 0');
  for (const { name, kind } of ownTables(standing, family, prefix, names))
    await session.run(`DROP ${kind.toUpperCase()} IF EXISTS ${bytes(quoteName(name))}`);
  for (const { kind, name } of programs)
    if (/^(?:PROCEDURE|FUNCTION|EVENT)$/.test(kind))
      await session.run(`DROP ${kind} IF EXISTS ${bytes(quoteName(name))}`);
}

/** Takes the keepsake away, and the note of a load that was broken off. */
export async function clearBesideDatabase(move: Move, { keepsake }: DatabaseRemains): Promise<void> {
  if (keepsake !== undefined) await rm(dirname(keepsake), { recursive: true, force: true });
  const way = newDatabaseOf(move);
  if (!way) return;
  await withDatabase(way, session => session.run(`DROP TABLE IF EXISTS ${loadTable}`)).catch(() => {
    // A server that does not answer any more keeps a table of one row.
  });
}

function isThere(file: string): Promise<boolean> {
  return access(file).then(
    () => true,
    () => false,
  );
}
