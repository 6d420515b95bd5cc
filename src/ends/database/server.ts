import { createConnection, type RowDataPacket } from 'mysql2/promise';

/** Where a database is, and as whom it is opened. */
export interface DatabasePlace {
  readonly host: string;
  readonly port: number;
  readonly user: string;
  readonly password: string;
  readonly database: string;
}

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
  readonly kind: 'unreachable' | 'credentials' | 'no such database' | 'refused';
  readonly why: string;
}

const patience = 10_000;

/** Opens a database, asks the server about itself, and closes it again. Nothing is changed. */
export async function lookAtServer(place: DatabasePlace): Promise<SeenServer | Refusal> {
  let connection: Awaited<ReturnType<typeof createConnection>>;
  try {
    connection = await createConnection({ ...place, connectTimeout: patience, charset: 'utf8mb4' });
  } catch (error) {
    return refusalOf(error as NodeJS.ErrnoException & { sqlMessage?: string });
  }
  try {
    const column = async (sql: string) => {
      const [rows] = await connection.query<RowDataPacket[]>(sql);
      return rows.map(row => String(Object.values(row)[0]));
    };
    const asked = Date.now();
    const [now] = await column('SELECT UNIX_TIMESTAMP()');
    const [version, packet, modes, charset] = await Promise.all([
      column('SELECT VERSION()'),
      column('SELECT @@max_allowed_packet'),
      column('SELECT @@sql_mode'),
      column('SELECT @@character_set_database'),
    ]);
    const grants = await column('SHOW GRANTS');
    return {
      version: version[0] ?? '',
      charsets: await column('SHOW CHARACTER SET'),
      collations: await column('SHOW COLLATION'),
      charset: charset[0] ?? '',
      packet: Number(packet[0]),
      modes: (modes[0] ?? '').split(',').filter(Boolean),
      missingRights: missingIn(grants, place.database),
      tables: await column('SHOW TABLES'),
      skew: Math.round(Number(now) - asked / 1000),
    };
  } finally {
    await connection.end();
  }
}

/** Whether looking at a server came to nothing. */
export function isRefusal(seen: SeenServer | Refusal): seen is Refusal {
  return 'kind' in seen;
}

function refusalOf({ code, message, sqlMessage }: NodeJS.ErrnoException & { sqlMessage?: string }): Refusal {
  const why = sqlMessage ?? message;
  if (code === 'ER_ACCESS_DENIED_ERROR') return { kind: 'credentials', why };
  if (code === 'ER_BAD_DB_ERROR' || code === 'ER_DBACCESS_DENIED_ERROR')
    return { kind: 'no such database', why };
  const network = /^(?:ECONN|ETIMEDOUT|ENOTFOUND|EHOST|ENET|EAI_|EPIPE|PROTOCOL_CONNECTION_LOST)/.test(
    code ?? '',
  );
  return { kind: network ? 'unreachable' : 'refused', why: why || String(code) };
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
