import { access } from 'node:fs/promises';
import type { Duplex } from 'node:stream';
import type { Connection } from 'mysql2';
import { type DatabasePlace, lineTo, shownDatabase } from '../../../../core/database/place.js';
import { type EncodedSql, sql } from '../../../../core/sql/encoded-sql.js';
import type { SshSession } from '../../../ssh/session.js';
import { connectionError } from './errors.js';
import { optionsOf } from './line.js';
import { Packets } from './packets.js';
import { type Effect, Sending, type Statement, type TakeRow, type TogetherDone } from './sending.js';
import { type DatabaseRoute, DatabaseSession } from './session.js';

/** A route on which a connection stays open. */
export interface StraightRoute extends DatabaseRoute {
  readonly through: SshSession | undefined;
}

const patience = 15_000;
/** A server that takes several statements in one packet says so (CLIENT_MULTI_STATEMENTS). */
const severalStatements = 0x10000;

/** Where servers of this machine have their sockets, in the order of likelihood: Debian's, Red Hat's, others'. */
const usualSockets = ['/run/mysqld/mysqld.sock', '/var/lib/mysql/mysql.sock', '/tmp/mysql.sock'];

/** A session over one connection that stays open, in the protocol of the servers. */
export class StraightSession extends DatabaseSession {
  readonly route: StraightRoute;
  private readonly connection: Connection;
  private readonly tunnel: Duplex | undefined;
  private readonly sending: Sending;
  /** How many have asked to pause and not to resume. */
  private pauses = 0;
  isOver = false;
  readonly canBeReset: boolean;

  private constructor(
    route: StraightRoute,
    connection: Connection,
    { tunnel, takesSeveral }: { readonly tunnel: Duplex | undefined; readonly takesSeveral: boolean },
  ) {
    super();
    this.route = route;
    this.connection = connection;
    this.tunnel = tunnel;
    this.sending = new Sending(new Packets(connection, takesSeveral));
    this.canBeReset = takesSeveral;
    // Of a statement that gives its rows one by one the package reports a lost connection only here.
    connection.on('error', error => {
      this.isOver = true;
      this.sending.end(error);
    });
    connection.on('end', () => {
      this.isOver = true;
    });
  }

  /** @throws EndError when the server cannot be reached or refuses the credentials */
  static async open(route: StraightRoute): Promise<StraightSession> {
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
        multipleStatements: true,
      });
      connection.on('warn', withoutPrint);
      let takesSeveral = false;
      // The package's types do not describe what the server offers.
      connection.once('connect', (offer: { capabilityFlags?: number } | undefined) => {
        takesSeveral = ((offer?.capabilityFlags ?? 0) & severalStatements) !== 0;
      });
      await new Promise<void>((resolve, reject) => {
        connection.once('error', reject);
        connection.connect(error => (error ? reject(error) : resolve()));
      });
      connection.removeAllListeners('error');
      return new StraightSession(route, connection, { tunnel, takesSeveral });
    } catch (error) {
      tunnel?.destroy();
      throw connectionError(error, `Connecting to the database ${shownDatabase(place)}`);
    }
  }

  async each(sql: EncodedSql, take: TakeRow): Promise<void> {
    await this.sending.ask({ sql, take });
  }

  run(sql: EncodedSql): Promise<Effect> {
    return this.sending.ask({ sql });
  }

  together(statements: readonly Statement[]): Promise<TogetherDone> {
    return this.sending.together(statements);
  }

  get number(): number {
    return this.connection.threadId;
  }

  beginAgain(): void {
    this.sending.before(sql`SET NAMES utf8mb4 COLLATE utf8mb4_unicode_ci`);
  }

  reset(): Promise<boolean> {
    const { connection } = this;
    return new Promise(resolve => {
      const lost = () => resolve(false);
      connection.once('error', lost);
      connection.reset(error => {
        connection.off('error', lost);
        resolve(!error);
      });
    });
  }

  pause(): void {
    if (this.pauses++ === 0) this.connection.pause();
  }

  resume(): void {
    if (--this.pauses === 0) this.connection.resume();
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

  destroy(): void {
    this.isOver = true;
    this.connection.destroy();
    this.sending.end(
      Object.assign(new Error('the connection was ended'), { code: 'PROTOCOL_CONNECTION_LOST' }),
    );
    this.tunnel?.destroy();
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
