import { textOf } from '../../core/bytes.js';
import {
  type DatabasePlace,
  readDatabaseUrl,
  type ServerPlace,
  serverNamed,
} from '../../core/database/place.js';
import { UsageError } from '../../core/errors.js';
import type { Facts } from '../../core/site/configuration/source/facts.js';
import type {
  DatabaseConnection,
  DatabaseEnd,
  DatabaseServer,
  SeenServer,
} from '../../ends/database/database-end.js';
import { AdministratorServer } from '../../ends/database/server/administrator.js';
import { ServerDatabase } from '../../ends/database/server/server-database.js';
import type { DatabaseRoute } from '../../ends/database/server/session/session.js';
import type { Move } from './open.js';
import { lookAtOldSite, type Site } from './read-site.js';

/** The database that the old site uses, as its configuration or the sheet says. */
export interface OldDatabase {
  readonly database: DatabaseEnd;
  /** The character set in which the site speaks to its server. */
  readonly charset: string | undefined;
}

/** @throws UsageError where the sheet asks for what the configuration does not say, or for a tunnel that is not there */
export async function oldDatabaseOf(move: Move, known?: Site): Promise<OldDatabase> {
  const asked = move.sheet.old.database;
  const site = known ?? (await lookAtOldSite(move));
  const facts = site?.facts;
  const charset = textIn(facts, 'charset');
  const through = tunnelOf(move, 'old', asked?.through === 'files');
  if (asked?.server !== undefined) {
    const place = placeIn(asked.server, asked.password, 'old.database.server');
    return { database: new ServerDatabase({ place, through }, move.sessions), charset };
  }
  if (!site || !facts) {
    throw new UsageError({
      doing: 'Finding the old database',
      cause: 'old.database.from asks for the configuration, and none can be read',
      remedy: 'Give old.files, or name the database itself in old.database.server',
    });
  }
  const route = { place: configured(site), through: through ?? tunnelOf(move, 'old', 'if there') };
  return { database: new ServerDatabase(route, move.sessions), charset };
}

/** The database at the new end; undefined where the sheet names none or no password for it. */
export function newDatabaseOf(move: Move): DatabaseEnd | undefined {
  const place = newDatabasePlace(move);
  const through = move.sheet.new.database?.through === 'files';
  return place && new ServerDatabase({ place, through: tunnelOf(move, 'new', through) }, move.sessions);
}

/** The new database and the account that opens it, as the sheet has them. */
export function newDatabasePlace({ sheet }: Move): DatabasePlace | undefined {
  const { server, password } = sheet.new.database ?? {};
  if (!server || password === undefined) return undefined;
  return placeIn(server, password, 'new.database.server');
}

/** The server of the new database without naming a database: what its account sees there. */
export function newServerOf(move: Move): DatabaseEnd | undefined {
  const place = newDatabasePlace(move);
  const through = move.sheet.new.database?.through === 'files';
  return (
    place &&
    new ServerDatabase(
      { place: { ...place, name: '' }, through: tunnelOf(move, 'new', through) },
      move.sessions,
    )
  );
}

/** The server of the new database, opened with an administrator's credentials, where the sheet gives them. */
export function newAdministratorOf(move: Move): DatabaseServer | undefined {
  const asked = move.sheet.new.database;
  if (!asked?.server || !asked.administrator) return undefined;
  const { user, password } = asked.administrator;
  const place = { ...placeIn(asked.server, password ?? '', 'new.database.server'), user, name: '' };
  return new AdministratorServer({ place, through: tunnelOf(move, 'new', asked.through === 'files') });
}

function placeIn(server: string, password: string | undefined, key: string): DatabasePlace {
  const place = readDatabaseUrl(server);
  if (place?.name && place.user) return { ...place, password: password ?? place.password };
  throw new UsageError({
    doing: `Reading ${key}`,
    cause: 'it names no user or no database',
    remedy: 'Write mysql://user@host:port/name; % escapes what a URL cannot hold',
  });
}

/** The database that a configuration names. */
function configured({ facts, configuration, family }: Site): DatabasePlace {
  const [name, user, password] = (['name', 'user', 'password'] as const).map(fact => textIn(facts, fact));
  if (name !== undefined && user !== undefined && password !== undefined)
    return { ...serverOf(facts), name, user, password };
  const missing = Object.entries({ name, user, password }).filter(([, value]) => value === undefined);
  throw new UsageError({
    doing: `Finding the old database in ${configuration}`,
    cause: `its ${missing.map(([fact]) => fact).join(', ')} cannot be read there (a ${family.name} site may compute it when it runs)`,
    remedy: 'Name it in the sheet: old.database.server and old.database.password',
  });
}

function serverOf(facts: Facts | undefined): ServerPlace {
  return serverNamed(textIn(facts, 'host') ?? 'localhost', textIn(facts, 'port'));
}

function textIn(facts: Facts | undefined, fact: 'name' | 'user' | 'password' | 'host' | 'port' | 'charset') {
  const value = facts?.[fact]?.value;
  return value === undefined ? undefined : textOf(value);
}

/**
 * The SSH account of an end's files, or the hatch there, when the database is reached through it.
 * @param wanted `if there`: go straight where the files are on this machine
 */
function tunnelOf(move: Move, end: 'old' | 'new', wanted: boolean | 'if there'): DatabaseRoute['through'] {
  if (!wanted) return undefined;
  const place = end === 'old' ? move.oldPlace : move.newFiles;
  const through = place?.hatch ?? place?.ssh;
  if (through) return through;
  if (wanted === 'if there' && (place === undefined || place.isLocal)) return undefined;
  throw new UsageError({
    doing: `Reaching the ${end} database`,
    cause: `${end}.files is not reached by sftp:// nor through a hatch, so there is no way through it`,
    remedy:
      'Write hatch: true at this end, name the database straight (server: mysql://…, without through), or take a dump in the host’s panel and name it (dump: old.sql.gz)',
  });
}

/** What was seen of the new database's server, for steps that follow one another. */
const seen = new WeakMap<Move, SeenServer>();

/** What the server of the new database says of itself; it is asked once. Its list of tables is of that moment. */
export async function serverSeen(move: Move, connection: DatabaseConnection): Promise<SeenServer> {
  const server = seen.get(move) ?? (await connection.server());
  noteServer(move, server);
  return server;
}

/** Keeps what was seen of it. */
export function noteServer(move: Move, server: SeenServer): void {
  seen.set(move, server);
}

/** Moves whose account at the new database was seen to be able to do all that a load needs. */
const able = new WeakSet<Move>();

/** What the account at the new database may not do; it is tried out until nothing is missing, and not again after that. */
export async function missingAbilities(
  move: Move,
  connection: DatabaseConnection,
): Promise<readonly string[]> {
  if (able.has(move)) return [];
  const missing = await connection.missingAbilities();
  if (missing.length === 0) able.add(move);
  return missing;
}
