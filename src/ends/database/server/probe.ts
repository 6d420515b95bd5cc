import { EndError } from '../../../core/errors.js';
import {
  type DatabaseSession,
  type DatabaseWay,
  type RefusalKind,
  refusalKindOf,
  type ServerSaid,
  withDatabase,
} from './session.js';

/** What a database server says of itself and of one database. */
export interface SeenServer {
  /** As the server writes it. */
  readonly version: string;
  readonly charsets: readonly string[];
  readonly collations: readonly string[];
  /** The character set of the database. */
  readonly charset: string;
  /** The longest statement that it takes, in bytes. */
  readonly packet: number;
  readonly modes: readonly string[];
  /** Rights that a load needs and this user has not, by their SQL names. */
  readonly missingRights: readonly string[];
  readonly tables: readonly string[];
  /** The server's clock less this machine's, in seconds. */
  readonly skew: number;
}

/** Why a database could not be opened. */
export interface Refusal {
  readonly kind: RefusalKind;
  readonly why: string;
}

/** Opens a database, asks the server about itself, and closes it again. Nothing is changed. */
export async function lookAtServer(way: DatabaseWay): Promise<SeenServer | Refusal> {
  try {
    return await withDatabase(way, session => serverOf(session, way.place.name));
  } catch (error) {
    if (!(error instanceof EndError)) throw error;
    return { kind: refusalKindOf((error.cause ?? {}) as ServerSaid), why: error.told.cause };
  }
}

/** What the server of an open database says of itself. */
export async function serverOf(session: DatabaseSession, database: string): Promise<SeenServer> {
  const column = async (sql: string) => (await session.rows(sql)).map(row => row[0] ?? '');
  const asked = Date.now();
  const [now] = await column('SELECT UNIX_TIMESTAMP()');
  const [version] = await column('SELECT VERSION()');
  const [packet] = await column('SELECT @@max_allowed_packet');
  const [modes] = await column('SELECT @@sql_mode');
  const [charset] = await column('SELECT @@character_set_database');
  const grants = await column('SHOW GRANTS');
  return {
    version: version ?? '',
    charsets: await column('SHOW CHARACTER SET'),
    collations: await column('SHOW COLLATION'),
    charset: charset ?? '',
    packet: Number(packet),
    modes: (modes ?? '').split(',').filter(Boolean),
    missingRights: missingIn(grants, database),
    tables: await column('SHOW TABLES'),
    skew: Math.round(Number(now) - asked / 1000),
  };
}

/** Whether looking at a server came to nothing. */
export function isRefusal(seen: SeenServer | Refusal): seen is Refusal {
  return 'kind' in seen;
}

const needed = ['SELECT', 'INSERT', 'UPDATE', 'DELETE', 'CREATE', 'DROP', 'ALTER', 'INDEX', 'LOCK TABLES'];

/** The rights that loading a dump and running a site need and that no grant gives. */
function missingIn(grants: readonly string[], database: string): string[] {
  const given = new Set<string>();
  for (const grant of grants) {
    const [, rights, on] = /^GRANT (.+?) ON (?:TABLE )?(\S+\.\S+) TO /.exec(grant) ?? [];
    if (!rights || !on || !coversDatabase(on, database)) continue;
    for (const right of rights.split(/,\s*/)) given.add(right.toUpperCase());
  }
  return given.has('ALL PRIVILEGES') ? [] : needed.filter(right => !given.has(right));
}

/** Whether the object of a grant covers a whole database; `_` and `%` stand for characters in its name. */
function coversDatabase(on: string, database: string): boolean {
  const [scope, object] = on.replaceAll('`', '').split('.');
  if (object !== '*') return false;
  if (scope === '*') return true;
  const pattern = scope!.replace(/\\?[_%]|[^\w]/g, part =>
    part === '_' ? '.' : part === '%' ? '.*' : part.replace(/^\\/, '').replace(/\W/, '\\$&'),
  );
  return new RegExp(`^${pattern}$`, 'i').test(database);
}
