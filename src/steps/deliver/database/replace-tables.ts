import { mkdir } from 'node:fs/promises';
import { dirname } from 'node:path';
import { bytesOf, textOf } from '../../../core/bytes.js';
import { shownDatabase } from '../../../core/database/place.js';
import type { Finding } from '../../../core/findings.js';
import type { JournalRecord } from '../../../core/journal.js';
import { familyNamed } from '../../../core/site/families/families.js';
import type { Family } from '../../../core/site/families/family.js';
import { prefixesIn } from '../../../core/site/survey/dump-survey.js';
import { quoteName, quoteText } from '../../../core/sql/column.js';
import { DumpWriter } from '../../../ends/database/dump/writer.js';
import { bytes, type SeenTable, tablesOf } from '../../../ends/database/server/catalog.js';
import { loadTable } from '../../../ends/database/server/load.js';
import { DatabaseSession, type DatabaseWay } from '../../../ends/database/server/session.js';
import { Snapshot } from '../../../ends/database/server/snapshot.js';
import { telling } from '../../../ends/trouble.js';
import { newDatabaseOf } from '../../move/databases.js';
import { type Move, newTableName, prefixChangeOf } from '../../move/open.js';
import { noteDone, type StepRun } from '../../move/step.js';

/** What was cleared away before a load. */
export interface Cleared {
  readonly dropped: readonly string[];
  /** The dump in which they are kept; undefined where there was nothing to keep. */
  readonly keepsake: string | undefined;
  /** Reasons not to; nothing was cleared then. */
  readonly findings: readonly Finding[];
}

/** Where the keepsake of a database lies in the move folder. */
const keepsakeFile = 'keepsake/database.sql.gz';

/**
 * Keeps in a dump what stands in the site's own tables, and drops them. Tables of other sites stay.
 * @param incoming names of the tables that will be loaded
 */
export async function clearTables(
  run: StepRun,
  session: DatabaseSession,
  family: Family,
  prefix: string,
  incoming: readonly string[],
): Promise<Cleared> {
  const { move } = run;
  const { way } = session;
  const journal = await move.folder.readJournal();
  const standing = await tablesOf(session);
  const drop = toDrop(move, standing, family, prefix, incoming);
  const ours = loadedPlaces(journal).has(shownDatabase(way.place));
  if (!ours && move.sheet.new.database?.replace === undefined) {
    const other = await otherSite(session, move, family, prefix, drop);
    if (other !== undefined)
      return { dropped: [], keepsake: undefined, findings: [otherSiteFinding(way, prefix, other)] };
  }
  const network = family.networkTable && prefix + family.networkTable;
  const intoNetwork = !ours && network !== undefined && standing.some(({ name }) => name === network);
  if (intoNetwork && !incoming.includes(network))
    return { dropped: [], keepsake: undefined, findings: [networkFinding(way, prefix)] };
  const keepsake = await keep(run, way, drop, journal);
  await session.run('SET FOREIGN_KEY_CHECKS = 0');
  for (const { name, kind } of drop)
    await session.run(`DROP ${kind.toUpperCase()} IF EXISTS ${bytes(quoteName(name))}`);
  return { dropped: drop.map(({ name }) => name), keepsake, findings: [] };
}

/** What a load would drop of tables that this move has not put there, in words; undefined for nothing. */
export async function tablesInTheWay(move: Move): Promise<string | undefined> {
  const way = move.newLive ? newDatabaseOf(move) : undefined;
  if (!way || loadedPlaces(await move.folder.readJournal()).has(shownDatabase(way.place))) return undefined;
  // Before there is a crate, every table under the new prefix may be in the way.
  const manifest = (await move.crate.identity()) === undefined ? undefined : await move.crate.manifest();
  if (manifest?.tables.length === 0) return undefined;
  const family = familyNamed(manifest?.from.family ?? 'plain');
  const change = manifest && prefixChangeOf(move, family, manifest.from.prefix);
  const incoming = manifest?.tables.map(({ table }) => newTableName(table, change));
  const prefix = move.sheet.new.database?.prefix ?? manifest?.from.prefix ?? '';
  const session = await DatabaseSession.open(way).catch(() => undefined);
  // Where it cannot be opened, the delivery says why.
  if (!session) return undefined;
  try {
    const standing = await tablesOf(session);
    const names = incoming ?? standing.map(({ name }) => name).filter(name => name.startsWith(prefix));
    const drop = toDrop(move, standing, family, prefix, names);
    return drop.length === 0
      ? undefined
      : `${drop.length} ${drop.length === 1 ? 'table' : 'tables'} of the database ${way.place.name}`;
  } finally {
    await session.close();
  }
}

function toDrop(
  move: Move,
  standing: readonly SeenTable[],
  family: Family,
  prefix: string,
  incoming: readonly string[],
): readonly SeenTable[] {
  return move.sheet.new.database?.replace === 'all'
    ? standing.filter(({ name }) => name !== loadTable)
    : ownTables(standing, family, prefix, incoming);
}

/** Tables under the site's prefix, but for those of another site whose longer prefix begins with the same. */
export function ownTables(
  standing: readonly SeenTable[],
  family: Family,
  prefix: string,
  incoming: readonly string[],
): SeenTable[] {
  const names = standing.map(({ name }) => name);
  const others = prefixesIn(names, family.coreTables).filter(
    // Sites of a network have a number after the prefix.
    one => one !== prefix && one.startsWith(prefix) && !/^\d+_$/.test(one.slice(prefix.length)),
  );
  return standing.filter(({ name }) => {
    if (name === loadTable) return false;
    if (incoming.includes(name)) return true;
    return prefix !== '' && name.startsWith(prefix) && !others.some(other => name.startsWith(other));
  });
}

/** The address of a site that stands there and has nothing to do with this move. */
async function otherSite(
  session: DatabaseSession,
  { oldAddress, newAddress, sheet }: Move,
  { addressRow }: Family,
  prefix: string,
  tables: readonly SeenTable[],
): Promise<string | undefined> {
  if (!addressRow || !tables.some(({ name }) => name === prefix + addressRow.table)) return undefined;
  const { where, column } = addressRow;
  const condition = 'is' in where ? ` WHERE ${quoteName(where.column)} = ${quoteText(where.is)}` : '';
  let found: string | undefined;
  await session.each(
    `SELECT ${quoteName(column)} FROM ${bytes(quoteName(prefix + addressRow.table))}${condition}`,
    ([cell]) => {
      if (cell) found = textOf(bytesOf(cell));
    },
  );
  if (found === undefined || !URL.canParse(found)) return undefined;
  const hosts = [oldAddress.host, newAddress.host];
  for (const also of sheet.old.also) if (URL.canParse(also)) hosts.push(new URL(also).hostname);
  return hosts.includes(new URL(found).hostname) ? undefined : found;
}

function otherSiteFinding({ place }: DatabaseWay, prefix: string, address: string): Finding {
  return {
    level: 'stop',
    code: 'database-holds-other-site',
    place: shownDatabase(place),
    what: `Under the prefix "${prefix}" stands the site ${address}, which is not the one that is moved`,
    remedy:
      'Give new.database.prefix or another database; if that site is to go, allow it with new.database.replace: own',
  };
}

function networkFinding({ place }: DatabaseWay, prefix: string): Finding {
  return {
    level: 'stop',
    code: 'network-at-new-end',
    place: shownDatabase(place),
    what: `Under the prefix "${prefix}" stands a network of sites; a single site does not become one of them by being loaded over it`,
    remedy:
      'Import it into the network with its own program, or give new.database.prefix or another database',
  };
}

/** Writes what stands in some tables to a dump in the move folder, once for the whole move. */
async function keep(
  run: StepRun,
  way: DatabaseWay,
  tables: readonly SeenTable[],
  journal: readonly JournalRecord[],
): Promise<string | undefined> {
  const kept = keptDatabase(journal);
  if (kept?.of === shownDatabase(way.place)) return kept.file || undefined;
  if (tables.length === 0) {
    await noteDone(run, 'deliver', { keepsDatabase: '', of: shownDatabase(way.place) });
    return undefined;
  }
  const file = run.move.folder.at(keepsakeFile);
  run.events({
    type: 'message',
    text: `Keeping what stands in the new database (${tables.length} ${tables.length === 1 ? 'table' : 'tables'}) in ${file}`,
  });
  await telling(`Making ${dirname(file)}`, () => mkdir(dirname(file), { recursive: true, mode: 0o700 }));
  const wanted = new Set(tables.map(({ name }) => name));
  const snapshot = await Snapshot.open(way, undefined, name => wanted.has(name));
  const writer = new DumpWriter(file, { checksum: true });
  try {
    writer.take(snapshot.head(new Date()));
    for (const table of snapshot.own) await snapshot.writeTable(table, writer, run.signal);
    await snapshot.writeRest(writer, { routines: false, events: false });
    writer.take(snapshot.tail());
    await writer.finish();
  } catch (error) {
    await writer.discard();
    throw error;
  } finally {
    await snapshot.close().catch(() => {});
  }
  await noteDone(run, 'deliver', { keepsDatabase: file, of: shownDatabase(way.place) });
  return file;
}

/** The keepsake of the new database, until it was put back or taken away; an empty name where nothing stood there. */
export function keptDatabase(journal: readonly JournalRecord[]): { file: string; of: string } | undefined {
  let kept: { file: string; of: string } | undefined;
  for (const { did, step, event } of journal) {
    if (did?.keepsDatabase !== undefined) kept = { file: did.keepsDatabase, of: did.of! };
    if (did?.databasePutBack !== undefined || (step === 'tidy' && event === 'done')) kept = undefined;
  }
  return kept;
}

/** The databases that this move has loaded and not put back. */
export function loadedPlaces(journal: readonly JournalRecord[]): Set<string> {
  const places = new Set<string>();
  for (const { did } of journal) {
    if (did?.loads !== undefined) places.add(did.loads);
    if (did?.databasePutBack !== undefined) places.delete(did.databasePutBack);
  }
  return places;
}
