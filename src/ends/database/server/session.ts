import { access } from 'node:fs/promises';
import type { Duplex } from 'node:stream';
import type { Connection, ResultSetHeader } from 'mysql2';
import { type DatabasePlace, lineTo, shownDatabase } from '../../../core/database/place.js';
import { EndError, PartWayError, PorterError } from '../../../core/errors.js';
import type { EncodedSql } from '../../../core/sql/encoded-sql.js';
import type { SshSession } from '../../ssh/session.js';
import type { RefusalKind } from '../database-end.js';
import { askedInClear, optionsOf } from './line.js';

/** What a server answers to a statement that gives no rows. */
export interface Effect {
  readonly affected: number;
  readonly warnings: number;
}

/** How a database is reached: straight, or from the host of an SSH account. */
export interface DatabaseRoute {
  readonly place: DatabasePlace;
  readonly through: SshSession | undefined;
}

const patience = 15_000;

/** Where servers of this machine have their sockets, in the order of likelihood: Debian's, Red Hat's, others'. */
const usualSockets = ['/run/mysqld/mysqld.sock', '/var/lib/mysql/mysql.sock', '/tmp/mysql.sock'];

/** One connection to a database server. Statements are bytes and are sent as they are. */
export class DatabaseSession {
  readonly route: DatabaseRoute;
  private readonly connection: Connection;
  private readonly tunnel: Duplex | undefined;
  /** Who waits for a statement that is under way. */
  private readonly waiting = new Set<(error: unknown) => void>();

  private constructor(route: DatabaseRoute, connection: Connection, tunnel: Duplex | undefined) {
    this.route = route;
    this.connection = connection;
    this.tunnel = tunnel;
    // Of a statement that gives its rows one by one the package reports a lost connection only here.
    connection.on('error', error => this.endWaiting(error));
  }

  /** @throws EndError when the server cannot be reached or refuses the credentials */
  static async open(route: DatabaseRoute): Promise<DatabaseSession> {
    const { place, through } = route;
    let tunnel: Duplex | undefined;
    try {
      tunnel = through && (await tunnelTo(through, place));
      const socketPath = through ? undefined : (place.socket ?? (await localSocket(place)));
      const { authPlugins, createConnection } = await import('./driver.js');
      const connection = createConnection({
        ...(socketPath === undefined ? { host: place.host, port: place.port } : { socketPath }),
        ...(tunnel ? { stream: tunnel } : {}),
        user: place.user,
        password: place.password,
        ...(place.name === '' ? {} : { database: place.name }),
        ...optionsOf(lineTo(place, tunnel !== undefined), authPlugins),
        charset: 'utf8mb4',
        connectTimeout: patience,
        enableKeepAlive: true,
      });
      connection.on('warn', withoutPrint);
      await new Promise<void>((resolve, reject) => {
        connection.once('error', reject);
        connection.connect(error => (error ? reject(error) : resolve()));
      });
      connection.removeAllListeners('error');
      return new DatabaseSession(route, connection, tunnel);
    } catch (error) {
      tunnel?.destroy();
      throw connectionError(error, `Connecting to the database ${shownDatabase(place)}`);
    }
  }

  /** Rows as text, for what the server says of itself. */
  async rows(sql: EncodedSql): Promise<(string | null)[][]> {
    const list: (string | null)[][] = [];
    await this.each(sql, cells => list.push(cells.map(cell => cell?.toString('utf8') ?? null)));
    return list;
  }

  /** The first cell of the first row, as text. */
  async value(sql: EncodedSql): Promise<string | null | undefined> {
    return (await this.rows(sql))[0]?.[0];
  }

  /** Gives each row as it comes in. A `cells` is only good until the next. */
  each(sql: EncodedSql, take: (cells: (Buffer | null)[]) => void): Promise<void> {
    return this.underWay((resolve, reject) => {
      const query = this.connection.query({ sql, rowsAsArray: true, typeCast: false });
      let failure: unknown;
      query
        .on('result', (row: unknown) => {
          try {
            if (!failure && Array.isArray(row)) take(row as (Buffer | null)[]);
          } catch (error) {
            failure = error;
          }
        })
        .once('error', reject)
        .once('end', () => (failure ? reject(failure) : resolve()));
    });
  }

  /** Runs a statement that gives no rows. */
  run(sql: EncodedSql): Promise<Effect> {
    return this.underWay((resolve, reject) => {
      this.connection.query({ sql }, (error, result) => {
        if (error) return reject(error);
        const { affectedRows, warningStatus } = (result ?? {}) as ResultSetHeader;
        resolve({ affected: affectedRows ?? 0, warnings: warningStatus ?? 0 });
      });
    });
  }

  /** Waits for a statement, which also ends when the connection is ended by us: the package would say nothing then. */
  private async underWay<T>(
    start: (resolve: (value: T) => void, reject: (error: unknown) => void) => void,
  ): Promise<T> {
    let end: ((error: unknown) => void) | undefined;
    try {
      return await new Promise<T>((resolve, reject) => {
        end = reject;
        this.waiting.add(reject);
        this.sendBytes();
        start(resolve, reject);
      });
    } finally {
      this.waiting.delete(end!);
    }
  }

  /**
   * Lets the package write the bytes of the next statement as they are in the string. It follows what the server
   * says of the session's character set, so this is said each time.
   */
  private sendBytes(): void {
    this.connection.config.charsetNumber = latin1;
  }

  /** Keeps the server from sending more rows until `resume`. */
  pause(): void {
    this.connection.pause();
  }

  resume(): void {
    this.connection.resume();
  }

  async close(): Promise<void> {
    await new Promise<void>(resolve => {
      const forced = setTimeout(() => {
        this.connection.destroy();
        resolve();
      }, 2000);
      this.connection.end(() => {
        clearTimeout(forced);
        resolve();
      });
    });
    this.tunnel?.destroy();
  }

  /** Ends the connection without a word, also while a statement runs. */
  destroy(): void {
    this.connection.destroy();
    this.endWaiting(
      Object.assign(new Error('the connection was ended'), { code: 'PROTOCOL_CONNECTION_LOST' }),
    );
    this.tunnel?.destroy();
  }

  private endWaiting(error: unknown): void {
    for (const reject of this.waiting) reject(error);
  }
}

/** The number of a collation of latin1, in which one character is one byte. */
const latin1 = 8;

/** Opens a database, does something with it, and closes it again. */
export async function withDatabase<T>(
  route: DatabaseRoute,
  work: (session: DatabaseSession) => Promise<T>,
): Promise<T> {
  const session = await DatabaseSession.open(route);
  try {
    return await work(session);
  } catch (error) {
    throw toDatabaseError(error, `Asking the database ${shownDatabase(route.place)}`);
  } finally {
    await session.close();
  }
}

/** The language of most sites takes `localhost` to mean the server's socket. */
async function localSocket({ host, port }: DatabasePlace): Promise<string | undefined> {
  if (host !== 'localhost' || port !== 3306) return undefined;
  for (const path of usualSockets) {
    const there = await access(path).then(
      () => true,
      () => false,
    );
    if (there) return path;
  }
  return undefined;
}

async function tunnelTo(through: SshSession, { host, port, socket }: DatabasePlace): Promise<Duplex> {
  if (socket !== undefined) return through.reachSocket(socket);
  if (host !== 'localhost' || port !== 3306) return through.reach(host, port);
  for (const path of usualSockets) {
    try {
      return await through.reachSocket(path);
    } catch {
      // It has none there, or does not pass on to sockets.
    }
  }
  return through.reach('127.0.0.1', port);
}

const { error: print } = console;

/** The driver prints a warning after it has given it; what it means comes as an error. */
function withoutPrint(): void {
  console.error = () => {};
  queueMicrotask(() => {
    console.error = print;
  });
}

/** What a driver's or the server's error says. */
export interface ServerSaid {
  readonly code?: string;
  readonly errno?: number;
  readonly message: string;
  readonly sqlMessage?: string;
  readonly fatal?: boolean;
}

/** Whether an error means that the connection is no more, though the server may come back. */
export function isLost(error: unknown): boolean {
  const { code, message } = error as ServerSaid;
  if (
    /^(?:PROTOCOL_CONNECTION_LOST|ECONNRESET|EPIPE|ECONNREFUSED|ETIMEDOUT|ENOENT|ENOTCONN)$/.test(code ?? '')
  )
    return true;
  if (/^ER_(?:SERVER_SHUTDOWN|NORMAL_SHUTDOWN|CONNECTION_KILLED|NEW_ABORTING_CONNECTION)$/.test(code ?? ''))
    return true;
  return /closed state|Connection lost|has gone away|was killed/i.test(message ?? '');
}

function refusalKindOf({ code }: ServerSaid): RefusalKind {
  if (code === 'ER_ACCESS_DENIED_ERROR') return 'credentials';
  if (code === 'ER_BAD_DB_ERROR' || code === 'ER_DBACCESS_DENIED_ERROR') return 'no such database';
  const network =
    /^(?:ECONN|ETIMEDOUT|ENOTFOUND|ENOENT|EACCES|EHOST|ENET|EAI_|EPIPE|PROTOCOL_CONNECTION_LOST)/;
  return network.test(code ?? '') ? 'unreachable' : 'refused';
}

const remedies: Record<RefusalKind, string> = {
  unreachable:
    'Check host and port. Many hosts let only their own servers in: where the files are reached over sftp://, "through: files" leads there; otherwise use a dump',
  credentials: 'Check user and password: copy the password to .env as it is, in single quotes',
  'no such database':
    'Create it in the host’s panel and give the user all rights on it; many hosts put their own prefix before its name',
  refused: 'Look the message up in the server’s manual, or ask the host what it means',
};

const causes: Record<number, { cause: string; remedy: string }> = {
  1021: {
    cause: 'the disk of the database server is full',
    remedy: 'Make room there and run the command again; it resumes where it was',
  },
  1114: {
    cause: 'the table is full: the disk or quota of the database server is used up',
    remedy: 'Make room there and run the command again; it resumes where it was',
  },
  1030: {
    cause: 'the storage of the database server fails',
    remedy: 'Its disk may be full or a table damaged; run the command again when that is repaired',
  },
  1194: {
    cause: 'a table is marked as crashed',
    remedy: 'Repair it at its own host (REPAIR TABLE), then run the command again',
  },
  145: {
    cause: 'a table is marked as crashed',
    remedy: 'Repair it at its own host (REPAIR TABLE), then run the command again',
  },
  1142: { cause: 'the user lacks a right', remedy: 'Give the user all rights on the database' },
  1044: {
    cause: 'the user has no rights on the database',
    remedy: 'Give the user all rights on the database',
  },
};

/** What a driver or server said, as an error that says what was being done and what to try. */
export function toDatabaseError(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const said = error as ServerSaid;
  if (lieOf(said)) return connectionError(error, doing);
  if (typeof said.code !== 'string') return error;
  const why = reasonOf(said);
  const known = causes[said.errno ?? 0];
  if (known) return new PartWayError({ doing, ...known, cause: `${known.cause} (${why})` }, { cause: error });
  if (!isLost(said)) return connectionError(error, doing);
  const remedy = 'Run the command again when the server answers; it resumes where it was';
  const cause = `the connection was lost (${why})`;
  return new PartWayError({ doing, kind: 'connection lost', cause, remedy }, { cause: error });
}

/** The same while there is no connection yet. */
const isOfLine = new RegExp(
  `^(?:HANDSHAKE_|${askedInClear}|ERR_TLS|ERR_SSL|CERT_|UNABLE_TO|DEPTH_ZERO|SELF_SIGNED)`,
);
const remedyOfLine =
  'Where the files are reached over sftp://, "through: files" leads there over SSH. Otherwise, if you know that it is the right server, write ?tls=unverified after the name of the database; ?tls=off lets everybody on the way read the password and every row';

function causeOfLine(said: ServerSaid): string {
  if (said.code === 'HANDSHAKE_NO_SSL_SUPPORT') return 'the server offers no TLS';
  return said.code === askedInClear
    ? said.message
    : `nobody vouches for the server’s certificate (${reasonOf(said)})`;
}

function connectionError(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const said = error as ServerSaid;
  const lie = lieOf(said);
  if (lie) return new EndError({ doing, kind: 'refused', ...lie }, { cause: error });
  if (typeof said.code !== 'string') return error;
  const kind = refusalKindOf(said);
  if (isOfLine.test(said.code))
    return new EndError(
      { doing, kind: 'refused', cause: causeOfLine(said), remedy: remedyOfLine },
      { cause: error },
    );
  return new EndError({ doing, kind, cause: reasonOf(said), remedy: remedies[kind] }, { cause: error });
}

/** What no server that keeps to the protocol makes the driver say. */
function lieOf({ code, message }: ServerSaid): { cause: string; remedy: string } | undefined {
  if (/LOCAL INFILE/.test(message ?? ''))
    return {
      cause: 'the server asks for a file of this machine, which was not sent',
      remedy: 'Do not trust this server: no statement of a move needs that',
    };
  // An error of the language in which the driver is written, not of the server.
  if (/^ERR_(?:OUT_OF_RANGE|INVALID_ARG|BUFFER)/.test(code ?? ''))
    return {
      cause: 'what answers there does not speak the database’s protocol',
      remedy: 'Check host and port',
    };
  return undefined;
}

/** What a server said, as text: statements are bytes to the driver, and so is what the server quotes of them. */
function reasonOf({ sqlMessage, message, code }: ServerSaid): string {
  return shownMessage(sqlMessage ?? message ?? '') || (code ?? '');
}

/** A server's message without control characters, and not without end. */
function shownMessage(message: string): string {
  return message.replace(/[\x00-\x1f\x7f]+/g, ' ').slice(0, 300);
}
