import { mkdir } from 'node:fs/promises';
import { dirname } from 'node:path';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { familyNamed } from '../../../core/site/families/families.js';
import type { Family } from '../../../core/site/families/family.js';
import { prefixesIn } from '../../../core/site/survey/site-tables.js';
import { counted } from '../../../core/text/numbers.js';
import type { DatabaseConnection, DatabaseEnd, SeenTable } from '../../../ends/database/database-end.js';
import { DumpWriter } from '../../../ends/database/dump/writer.js';
import { loadTable } from '../../../ends/database/server/load.js';
import { whileDoing } from '../../../ends/system-errors.js';
import { newDatabaseOf } from '../../move/databases.js';
import { type Ledger, ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { newTableName, prefixChangeOf } from '../../move/terms.js';

/** What is about to be loaded: under which prefix, and into which tables. */
export interface IncomingTables {
  readonly family: Family;
  readonly prefix: string;
  readonly names: readonly string[];
}

/** What was removed before a load. */
export interface Replaced {
  readonly dropped: readonly string[];
  /** The dump in which they are kept; undefined where there was nothing to keep. */
  readonly keepsake: string | undefined;
  /** Reasons not to; nothing was removed then. */
  readonly findings: readonly Finding[];
}

/** Where the keepsake of a database is in the move folder. */
const keepsakeFile = 'keepsake/database.sql.gz';

/** Keeps what is in the site's own tables in a dump, and drops them. Tables of other sites stay. */
export async function replaceTables(
  run: StepRun,
  database: DatabaseEnd,
  connection: DatabaseConnection,
  incoming: IncomingTables,
): Promise<Replaced> {
  const { move } = run;
  const ledger = await ledgerOf(move);
  const tables = await connection.tables();
  const drop = tablesToDrop(move, tables, incoming);
  const refused = await refusalOf(run, { database, connection, ledger, tables, drop }, incoming);
  if (refused) return { dropped: [], keepsake: undefined, findings: [refused] };
  const keepsake = await keep(run, database, drop, ledger);
  await connection.drop(drop);
  return { dropped: drop.map(({ name }) => name), keepsake, findings: [] };
}

interface TablesThere {
  readonly database: DatabaseEnd;
  readonly connection: DatabaseConnection;
  readonly ledger: Ledger;
  readonly tables: readonly SeenTable[];
  readonly drop: readonly SeenTable[];
}

/** Why the tables may not be replaced: they are those of a site that has nothing to do with this move. */
async function refusalOf(
  { move }: StepRun,
  { database, connection, ledger, tables, drop }: TablesThere,
  { family, prefix, names }: IncomingTables,
): Promise<Finding | undefined> {
  if (ledger.loaded.has(database.text)) return undefined;
  if (move.sheet.new.database?.replace === undefined) {
    const other = await otherSite(move, connection, { family, prefix, drop });
    if (other !== undefined) return otherSiteFinding(database, prefix, other);
  }
  const network = family.networkTable && prefix + family.networkTable;
  if (network === undefined || !tables.some(({ name }) => name === network)) return undefined;
  return names.includes(network) ? undefined : networkFinding(database, prefix);
}

/** What a load would drop of tables that this move has not put there, in words; undefined for nothing. */
export async function tablesInTheWay(move: Move): Promise<string | undefined> {
  const database = move.newLive ? newDatabaseOf(move) : undefined;
  if (!database || (await ledgerOf(move)).loaded.has(database.text)) return undefined;
  // Before there is a crate, every table under the new prefix may be in the way.
  const manifest = (await move.crate.identity()) === undefined ? undefined : await move.crate.manifest();
  if (manifest?.tables.length === 0) return undefined;
  const family = familyNamed(manifest?.from.family ?? 'plain');
  const change = manifest && prefixChangeOf(move, family, manifest.from.prefix);
  const prefix = move.sheet.new.database?.prefix ?? manifest?.from.prefix ?? '';
  // Where it cannot be opened, the delivery says why.
  const tables = await database.use(connection => connection.tables()).catch(() => undefined);
  if (!tables) return undefined;
  const names =
    manifest?.tables.map(({ table }) => newTableName(table, change)) ??
    tables.map(({ name }) => name).filter(name => name.startsWith(prefix));
  const drop = tablesToDrop(move, tables, { family, prefix, names });
  return drop.length === 0 ? undefined : `${counted(drop.length, 'table')} of the database ${database.name}`;
}

function tablesToDrop(
  move: Move,
  tables: readonly SeenTable[],
  incoming: IncomingTables,
): readonly SeenTable[] {
  return move.sheet.new.database?.replace === 'all'
    ? tables.filter(({ name }) => name !== loadTable)
    : ownTables(tables, incoming);
}

/** Tables under the site's prefix, but for those of another site whose longer prefix begins with the same. */
export function ownTables(
  tables: readonly SeenTable[],
  { family, prefix, names: incoming }: IncomingTables,
): SeenTable[] {
  const names = tables.map(({ name }) => name);
  const others = prefixesIn(names, family.coreTables).filter(
    // Sites of a network have a number after the prefix.
    one => one !== prefix && one.startsWith(prefix) && !/^\d+_$/.test(one.slice(prefix.length)),
  );
  return tables.filter(({ name }) => {
    if (name === loadTable) return false;
    if (incoming.includes(name)) return true;
    return prefix !== '' && name.startsWith(prefix) && !others.some(other => name.startsWith(other));
  });
}

/** The address of a site that is there and has nothing to do with this move. */
async function otherSite(
  { oldAddress, newAddress, sheet }: Move,
  connection: DatabaseConnection,
  { family, prefix, drop }: { family: Family; prefix: string; drop: readonly SeenTable[] },
): Promise<string | undefined> {
  const { addressRow } = family;
  if (!addressRow || !drop.some(({ name }) => name === prefix + addressRow.table)) return undefined;
  const found = await connection.cell(prefix + addressRow.table, addressRow.column, addressRow.where);
  if (found === undefined || !URL.canParse(found)) return undefined;
  const hosts = [oldAddress.host, newAddress.host];
  for (const also of sheet.old.also) if (URL.canParse(also)) hosts.push(new URL(also).hostname);
  return hosts.includes(new URL(found).hostname) ? undefined : found;
}

function otherSiteFinding({ text }: DatabaseEnd, prefix: string, address: string): Finding {
  return finding({
    level: 'stop',
    code: 'database-holds-other-site',
    place: text,
    what: `Under the prefix "${prefix}" is the site ${address}, which is not the one that is moved`,
    remedy:
      'Give new.database.prefix or another database; if that site is to go, allow it with new.database.replace: own',
  });
}

function networkFinding({ text }: DatabaseEnd, prefix: string): Finding {
  return finding({
    level: 'stop',
    code: 'network-at-new-end',
    place: text,
    what: `Under the prefix "${prefix}" is a network of sites; loading a single site over it does not make it one of them`,
    remedy:
      'Import it into the network with its own program, or give new.database.prefix or another database',
  });
}

/** Writes what is in some tables to a dump in the move folder, once for the whole move. */
async function keep(
  run: StepRun,
  database: DatabaseEnd,
  tables: readonly SeenTable[],
  { databaseKeepsake: kept }: Ledger,
): Promise<string | undefined> {
  if (kept?.database === database.text) return kept.file;
  const noteKept = (file: string | undefined) =>
    noteDeed(run, 'deliver', { kind: 'database kept', database: database.text, file });
  if (tables.length === 0) {
    await noteKept(undefined);
    return undefined;
  }
  const file = run.move.folder.at(keepsakeFile);
  run.events({
    type: 'message',
    text: `Keeping ${counted(tables.length, 'table')} of the new database in ${file}`,
  });
  await whileDoing(`Making ${dirname(file)}`, () => mkdir(dirname(file), { recursive: true, mode: 0o700 }));
  await writeKeepsake(run, database, tables, file);
  await noteKept(file);
  return file;
}

async function writeKeepsake(
  run: StepRun,
  database: DatabaseEnd,
  tables: readonly SeenTable[],
  file: string,
): Promise<void> {
  const names = new Set(tables.map(({ name }) => name));
  const snapshot = await database.snapshot({
    charset: undefined,
    choose: all => all.filter(({ name }) => names.has(name)),
  });
  const writer = new DumpWriter(run.move.bench, file, { checksum: true });
  try {
    writer.take(snapshot.head(new Date()));
    for (const table of snapshot.own) await snapshot.writeTable(table, writer, run.signal);
    await snapshot.writePrograms(writer, { routines: false, events: false });
    writer.take(snapshot.tail());
    await writer.finish();
  } catch (error) {
    await writer.discard();
    throw error;
  } finally {
    await snapshot.close().catch(() => {});
  }
}
