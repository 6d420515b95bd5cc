import { EndError } from '../../core/errors.js';
import { withoutCredentials } from '../../core/files/place-url.js';
import { type Finding, type FindingCode, finding, type LevelOf } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import { agreeing, counted } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import type { DatabaseConnection, DatabaseEnd, SeenServer } from '../../ends/database/database-end.js';
import { provisionByHand } from '../../ends/database/server/administrator.js';
import { missingAbilities, newDatabaseOf, newDatabasePlace, noteServer } from '../move/databases.js';
import type { Ledger } from '../move/ledger.js';
import type { Move } from '../move/open.js';
import {
  noSwapFinding,
  type Replacement,
  replacementFindings,
  replacementIn,
  swapObstacle,
} from '../move/replacement.js';
import { newTableName, prefixChangeOf } from '../move/terms.js';
import { lineFindings } from './database-line.js';
import { skewFindings } from './web.js';

interface SeenNewDatabase {
  readonly server: SeenServer | undefined;
  readonly findings: readonly Finding[];
}

/** The tables that are moved, as the old end shows them. */
interface OldTables {
  readonly family: Family | undefined;
  /** The old table prefix. */
  readonly prefix: string | undefined;
  readonly tables: readonly { readonly name: string; readonly bytes: number }[];
}

/** Bytes of both sites' tables below which room is not worth a word. */
const muchRoom = 200_000_000;

/** What the new database's server says, where one is named and answers. */
export async function surveyNewDatabase(
  move: Move,
  old: OldTables,
  ledger: Ledger,
): Promise<SeenNewDatabase> {
  const asked = move.sheet.new.database;
  if (!asked?.server) return { server: undefined, findings: [] };
  const place = withoutCredentials(asked.server);
  const database = newDatabaseOf(move);
  if (!database) {
    const notAsked = finding({
      level: willLoad(move) ? 'stop' : 'note',
      code: 'database-not-asked',
      place,
      what: 'The new database was not tested: the sheet gives no password for it',
      remedy: `Add new.database.password: \${NEW_DB_PASSWORD}, and the password to .env${willLoad(move) ? '; or have the dump left as a file (new.database.dump)' : ''}`,
    });
    return { server: undefined, findings: [notAsked] };
  }
  try {
    const { server, findings } = await lookAt(move, database, old);
    const seen = { database, server, prefix: old.prefix, ledger, place };
    return { server, findings: [...serverFindings(move, seen), ...findings] };
  } catch (error) {
    if (!(error instanceof EndError)) throw error;
    return { server: undefined, findings: [refusalFinding(move, error, place)] };
  }
}

/** Whether rows will be loaded; a server may be named for the configuration alone. */
function willLoad({ newLive, oldLive, oldDump }: Move): boolean {
  return newLive && (oldLive || oldDump !== undefined);
}

/** Where rows will be loaded it is tried out what the account may do; what the server lists may leave out roles. */
function lookAt(
  move: Move,
  database: DatabaseEnd,
  old: OldTables,
): Promise<{ readonly server: SeenServer; readonly findings: readonly Finding[] }> {
  return database.use(async connection => {
    const [server, missingRights] = await Promise.all([
      connection.server(),
      willLoad(move) ? missingAbilities(move, connection) : [],
    ]);
    noteServer(move, server);
    if (!willLoad(move)) return { server, findings: [] };
    const findings = await replacingFindings(move, { database, connection, old, missingRights });
    return { server: { ...server, missingRights }, findings };
  });
}

/** What the delivery would find of the tables that it replaces, and whether it can swap them. */
async function replacingFindings(
  move: Move,
  {
    database,
    connection,
    old,
    missingRights,
  }: {
    readonly database: DatabaseEnd;
    readonly connection: DatabaseConnection;
    readonly old: OldTables;
    readonly missingRights: readonly string[];
  },
): Promise<Finding[]> {
  const { family, prefix, tables } = old;
  if (!family || tables.length === 0) return [];
  const change = prefixChangeOf(move, family, prefix);
  const names = tables.map(({ name }) => newTableName(name, change));
  const incoming = { family, prefix: change?.to ?? prefix ?? '', names };
  const replacement = await replacementIn(move, connection, incoming);
  const findings = await replacementFindings(move, database, connection, replacement, incoming);
  const obstacle = swapObstacle(move, replacement, missingRights);
  if (obstacle !== undefined) findings.push(noSwapFinding(database, obstacle));
  else findings.push(...roomFindings(database, tables, replacement));
  return findings;
}

/** Until `tidy`, what is replaced is in the database as well. */
function roomFindings(
  { text }: DatabaseEnd,
  tables: OldTables['tables'],
  { replaced }: Replacement,
): Finding[] {
  const sum = (list: readonly { readonly bytes: number }[]) =>
    list.reduce((all, { bytes }) => all + bytes, 0);
  const [incoming, kept] = [sum(tables), sum(replaced)];
  if (kept === 0 || incoming + kept < muchRoom) return [];
  return [
    finding({
      level: 'note',
      code: 'database-room',
      place: text,
      what: `Until "tidy" the database holds the tables that are replaced too: about ${sizeText(incoming)} and ${sizeText(kept)}`,
      remedy:
        'Compare that with the quota in the host’s panel; with new.database.swap: false what is replaced is kept in a dump here',
    }),
  ];
}

function refusalFinding(move: Move, { kind, details: { cause } }: EndError, place: string): Finding {
  const administrator = move.sheet.new.database?.administrator;
  const maybeMissing = kind === 'no such database' || kind === 'credentials';
  if (administrator && maybeMissing) {
    return finding({
      level: 'note',
      code: 'database-missing',
      place,
      what: 'The new database or its user is not there yet; deliver creates them with the administrator’s credentials',
      remedy: 'Nothing needs to be done',
    });
  }
  if (kind === 'credentials') {
    return finding({
      level: 'stop',
      code: 'database-credentials',
      place,
      what: `The new database refuses the user or the password (${cause})`,
      remedy: 'Set the password again in the host’s panel, and copy it to .env as it is, in single quotes',
    });
  }
  if (kind === 'no such database') {
    const byHand = newDatabasePlace(move);
    return finding({
      level: 'stop',
      code: 'database-missing',
      place,
      what: `The new database is not there, or this user may not open it (${cause})`,
      remedy: `Create it in the host’s panel and give the user all rights on it (many hosts put their own prefix before its name), or as the server’s administrator: ${byHand ? provisionByHand(byHand) : ''}`,
    });
  }
  if (kind === 'refused') {
    return finding({
      level: 'stop',
      code: 'database-refuses',
      place,
      what: `The new database server refuses: ${cause}`,
      remedy: 'Ask the host what this means',
    });
  }
  const tunnel = move.newFiles?.ssh ? ' (new.database.through: files)' : '';
  return finding({
    level: willLoad(move) ? 'stop' : 'note',
    code: 'database-not-reached',
    place,
    what: `The new database cannot be reached from here (${cause}), so ${willLoad(move) ? 'nothing can be loaded into it' : 'its credentials were not tried'}`,
    remedy: willLoad(move)
      ? `Many hosts let only their own servers in: ${tunnel ? `go over the SSH connection of the files${tunnel}, or ` : ''}have the dump left as a file and load it in the host’s panel (new.database.dump: finished.sql.gz)`
      : 'Many hosts let only their own servers in; try the credentials in the host’s panel',
  });
}

interface NewServer {
  readonly database: DatabaseEnd;
  readonly server: SeenServer;
  /** The old site's table prefix. */
  readonly prefix: string | undefined;
  readonly ledger: Ledger;
  readonly place: string;
}

function serverFindings(move: Move, { database, server, prefix, ledger, place }: NewServer): Finding[] {
  const findings = [
    ...skewFindings('new.database', server.skew),
    ...charsetFindings(move, server),
    ...lineFindings(database),
  ];
  const report = <Code extends FindingCode>(
    code: Code,
    level: LevelOf<Code>,
    { what, remedy }: Pick<Finding, 'what' | 'remedy'>,
  ) => findings.push(finding({ level, code, place, what, remedy }));
  if (willLoad(move)) {
    if (server.reachesBeyond)
      report('account-reaches-beyond', 'warn', {
        what: 'This account may change other databases of the server too: a fault in a dump, or later in the site, could reach all of them',
        remedy: `Make an account for this site alone: ${provisionByHand({ name: database.name, user: 'club' })}`,
      });
    if (server.deniesPrograms)
      report('programs-denied', 'warn', {
        what: 'The server keeps a binary log and lets only its administrators make triggers and functions (error 1419)',
        remedy:
          'If the site has any, ask the host to set log_bin_trust_function_creators = 1, or to make them; deliver reports those that it could not make',
      });
  }
  const wanted = move.sheet.new.database?.prefix ?? prefix ?? '';
  const same = server.tables.filter(table => table.startsWith(wanted));
  // After a delivery these are most likely its own.
  if (move.newDump !== undefined && ledger.delivered.has(move.newDump.text)) return findings;
  if (ledger.loaded.has(database.id)) return findings;
  if (wanted !== '' && same.length > 0) {
    report('database-tables-there', 'warn', {
      what: `${counted(same.length, 'table')} with the prefix "${wanted}" ${agreeing(same.length, 'is', 'are')} in the new database already`,
      remedy: move.newLive
        ? 'Delivery replaces those of the same names, and keeps them until "tidy"; "undo" puts them back'
        : 'Loading the dump drops them; dump them first, or give new.database.prefix',
    });
  } else if (server.tables.length > 0) {
    report('database-shared', 'note', {
      what: `The new database already holds ${counted(server.tables.length, 'table')} of something else`,
      remedy: 'Nothing needs to be done as long as the prefixes differ',
    });
  }
  return findings;
}

/** Whether the new server knows the character set that the sheet names. */
export function charsetFindings({ sheet }: Move, { charsets }: SeenServer): Finding[] {
  const { charset } = sheet.new.database ?? {};
  if (charset === undefined || charsets.includes(charset)) return [];
  return [
    finding({
      level: 'stop',
      code: 'charset-unknown',
      place: 'new.database',
      what: `The new server does not know the character set ${charset} of new.database.charset`,
      remedy: `Name one that it knows: ${charsets.slice(0, 8).join(', ')}`,
    }),
  ];
}
