import { isReserved, stagedName } from '../../core/database/reserved-names.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { familyNamed } from '../../core/site/families/families.js';
import type { Family } from '../../core/site/families/family.js';
import { ownershipOf } from '../../core/site/survey/site-tables.js';
import { counted } from '../../core/text/numbers.js';
import type {
  DatabaseConnection,
  DatabaseEnd,
  ForeignKey,
  SeenTable,
} from '../../ends/database/database-end.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { newDatabaseOf } from './databases.js';
import { ledgerOf } from './ledger.js';
import type { Move } from './open.js';
import { tablesOfCrate } from './tables.js';
import { newTableName, prefixChangeOf } from './terms.js';

/** What is about to be loaded: under which prefix, and into which tables. */
export interface IncomingTables {
  readonly family: Family;
  readonly prefix: string;
  readonly names: readonly string[];
}

/** What a crate's tables will be called at the new end. */
export function incomingTables(move: Move, family: Family, manifest: CrateManifest): IncomingTables {
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  return {
    family,
    prefix: change?.to ?? manifest.from.prefix ?? '',
    names: tablesOfCrate(move, manifest).own.map(({ table }) => newTableName(table, change)),
  };
}

/** What is in the new database, and what of it a delivery replaces. */
export interface Replacement {
  readonly there: readonly SeenTable[];
  /** Tables whose places the new ones take, or that the sheet lets go. */
  readonly replaced: readonly SeenTable[];
  readonly foreignKeys: readonly ForeignKey[];
}

/**
 * What a delivery replaces: the tables of the same names. `replace: own` in the sheet lets all tables under the prefix go,
 * `all` every table.
 */
export async function replacementIn(
  move: Move,
  connection: DatabaseConnection,
  incoming: IncomingTables,
): Promise<Replacement> {
  const [there, foreignKeys] = await Promise.all([connection.tables(), connection.foreignKeys()]);
  return { there, replaced: replacedOf(move, there, incoming), foreignKeys };
}

/** The tables of a database that a delivery replaces. */
function replacedOf(
  { sheet }: Move,
  there: readonly SeenTable[],
  { family, prefix, names }: IncomingTables,
): readonly SeenTable[] {
  const isIncoming = new Set(names);
  const wish = sheet.new.database?.replace;
  const owns = ownershipOf(
    { family, prefix },
    there.map(({ name }) => name),
  );
  return there.filter(({ name }) => {
    if (isIncoming.has(name)) return true;
    if (wish === undefined || isReserved(name)) return false;
    return wish === 'all' || (prefix !== '' && owns(name));
  });
}

/** Why the tables of the new database may not be replaced. The survey asks the same. */
export async function replacementFindings(
  move: Move,
  database: DatabaseEnd,
  connection: DatabaseConnection,
  { there, replaced }: Replacement,
  incoming: IncomingTables,
): Promise<Finding[]> {
  const ledger = await ledgerOf(move);
  if (ledger.firstOf(database.id)) return [];
  const { family, prefix, names } = incoming;
  const findings: Finding[] = [];
  if (move.sheet.new.database?.replace === undefined) {
    const other = await otherSite(move, connection, { family, prefix, replaced });
    if (other !== undefined) findings.push(otherSiteFinding(database, prefix, other));
  }
  const network = family.networkTable && prefix + family.networkTable;
  const isThere = network !== undefined && there.some(({ name }) => name === network);
  if (isThere && !names.includes(network)) findings.push(networkFinding(database, prefix));
  const reserved = names.map(stagedName).filter(name => there.some(one => one.name === name));
  if (reserved.length > 0 && !ledger.loaded.has(database.id))
    findings.push(reservedFinding(database, reserved));
  return findings;
}

/** Why tables cannot be loaded beside those that they replace; undefined where they can. */
export function swapObstacle(
  { sheet }: Move,
  { replaced, foreignKeys }: Pick<Replacement, 'replaced' | 'foreignKeys'>,
  missingAbilities: readonly string[],
): string | undefined {
  if (sheet.new.database?.swap === false) return 'the sheet asks for it (new.database.swap: false)';
  if (missingAbilities.includes('rename tables')) return 'the user may not rename tables';
  const names = new Set(replaced.map(({ name }) => name));
  const stranger = foreignKeys.find(
    ({ table, references, isElsewhere }) => names.has(references) && (isElsewhere || !names.has(table)),
  );
  if (stranger)
    return `the table ${stranger.table}, which is not the site’s, has a foreign key to ${stranger.references}`;
  return undefined;
}

/** The finding that tables are replaced where they are. */
export function noSwapFinding({ text }: DatabaseEnd, why: string): Finding {
  return finding({
    level: 'warn',
    code: 'tables-not-swapped',
    place: text,
    what: `The tables are loaded in their place and not beside it: ${why}`,
    remedy: 'Expect the maintenance page for as long as the load takes',
  });
}

/** The address of a site that is there and has nothing to do with this move. */
async function otherSite(
  { oldAddress, newAddress, sheet }: Move,
  connection: DatabaseConnection,
  {
    family,
    prefix,
    replaced,
  }: { readonly family: Family; readonly prefix: string; readonly replaced: readonly SeenTable[] },
): Promise<string | undefined> {
  const { addressRow } = family;
  if (!addressRow || !replaced.some(({ name }) => name === prefix + addressRow.table)) return undefined;
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

function reservedFinding({ text }: DatabaseEnd, names: readonly string[]): Finding {
  return finding({
    level: 'stop',
    code: 'reserved-tables-there',
    place: text,
    what: `${counted(names.length, 'table')} with names that Able Porter needs for itself ${names.length === 1 ? 'is' : 'are'} there already: ${names.slice(0, 3).join(', ')}`,
    remedy: 'Finish or tidy the move that made them; if there is none, rename or drop them',
  });
}

/** What a delivery would replace of tables that this move has not put there; none where it has delivered before. */
export async function tablesInTheWay(move: Move): Promise<readonly string[]> {
  const database = move.newLive ? newDatabaseOf(move) : undefined;
  if (!database || (await ledgerOf(move)).firstOf(database.id)) return [];
  // Before there is a crate, every table under the new prefix may be in the way.
  const manifest = (await move.crate.identity()) === undefined ? undefined : await move.crate.manifest();
  if (manifest?.tables.length === 0) return [];
  // Where it cannot be opened, the delivery says why.
  const there = await database.use(connection => connection.tables()).catch(() => []);
  const family = familyNamed(manifest?.from.family ?? 'plain');
  const prefix = move.sheet.new.database?.prefix ?? '';
  const incoming = manifest
    ? incomingTables(move, family, manifest)
    : { family, prefix, names: there.map(({ name }) => name).filter(name => name.startsWith(prefix)) };
  return replacedOf(move, there, incoming).map(({ name }) => name);
}
