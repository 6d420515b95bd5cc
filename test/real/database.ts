import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { randomInt } from 'node:crypto';
import { mkdtempSync, rmSync } from 'node:fs';
import { connect, createServer } from 'node:net';
import { tmpdir, userInfo } from 'node:os';
import { join } from 'node:path';
import { after, before } from 'node:test';

/**
 * A port of this machine that is free now. It is below the ports that systems hand out for outgoing connections, so
 * that none of those takes it before the server that it is meant for.
 */
export async function freePort(): Promise<number> {
  for (;;) {
    const port = randomInt(10_240, 32_768);
    const server = createServer();
    const free = await new Promise<boolean>(resolve => {
      server.once('error', () => resolve(false));
      server.listen(port, '127.0.0.1', () => server.close(() => resolve(true)));
    });
    if (free) return port;
  }
}

/** Whether something listens at a port of this machine. */
export function listens(port: number, host = '127.0.0.1'): Promise<boolean> {
  return new Promise(resolve => {
    const socket = connect(port, host);
    socket.once('connect', () => {
      socket.destroy();
      resolve(true);
    });
    socket.once('error', () => resolve(false));
  });
}

/** Waits until something is so, or fails after two minutes. */
export async function until(what: string, so: () => boolean | Promise<boolean>): Promise<void> {
  for (let tries = 0; tries < 1200; tries++) {
    if (await so()) return;
    await new Promise(resolve => setTimeout(resolve, 100));
  }
  throw new Error(`${what} did not come about`);
}

/** A MariaDB server of the test's own, with a private data folder, on a free port. */
export class OwnDatabase {
  readonly port: number;
  readonly socket: string;
  private readonly folder: string;
  private readonly options: readonly string[];
  private server: ChildProcess | undefined;

  private constructor(port: number, folder: string, options: readonly string[]) {
    this.port = port;
    this.folder = folder;
    this.socket = join(folder, 's');
    this.options = options;
  }

  static async start(...options: string[]): Promise<OwnDatabase> {
    const folder = mkdtempSync(join(tmpdir(), 'able-porter-db-'));
    const database = new OwnDatabase(await freePort(), folder, options);
    execFileSync(
      'mariadb-install-db',
      [
        '--no-defaults',
        `--datadir=${join(folder, 'data')}`,
        '--auth-root-authentication-method=normal',
        '--skip-test-db',
        `--tmpdir=${folder}`,
        `--user=${userInfo().username}`,
      ],
      { stdio: ['ignore', 'pipe', 'pipe'] },
    );
    await database.begin();
    return database;
  }

  /** Starts the server on its data, and waits until it answers. */
  async begin(): Promise<void> {
    this.server = spawn(
      'mariadbd',
      [
        '--no-defaults',
        `--datadir=${join(this.folder, 'data')}`,
        // A server that starts removes what it takes for its own temporary tables, those of others in the same folder too.
        `--tmpdir=${this.folder}`,
        `--socket=${this.socket}`,
        `--port=${this.port}`,
        '--bind-address=127.0.0.1',
        `--user=${userInfo().username}`,
        `--pid-file=${join(this.folder, 'pid')}`,
        ...this.options,
      ],
      { stdio: ['ignore', 'ignore', 'pipe'] },
    );
    let said = '';
    this.server.stderr!.on('data', chunk => {
      said = (said + chunk).slice(-2000);
    });
    await until('the database server', () => {
      if (this.server!.exitCode !== null) throw new Error(`the database server ended at once: ${said}`);
      try {
        this.sql('SELECT 1');
        return true;
      } catch {
        return false;
      }
    });
  }

  /** Ends the server, at once or as it likes. */
  async end(signal: 'SIGTERM' | 'SIGKILL' = 'SIGTERM'): Promise<void> {
    const { server } = this;
    if (!server) return;
    const gone = new Promise<void>(resolve => server.once('exit', () => resolve()));
    server.kill(signal);
    await gone;
    this.server = undefined;
  }

  /** Whether a transaction waits for a lock that another one holds. */
  waitsForLock(): boolean {
    const waiting = "SELECT COUNT(*) FROM information_schema.INNODB_TRX WHERE trx_state = 'LOCK WAIT'";
    return this.sql(waiting).trim() !== '0';
  }

  /** Runs statements as the server's administrator; gives what they print. */
  sql(statements: string | Buffer, database = ''): string {
    const args = [
      '--no-defaults',
      `--socket=${this.socket}`,
      '-uroot',
      '--default-character-set=utf8mb4',
      '-N',
      '-B',
      ...(database ? [database] : []),
    ];
    return execFileSync('mariadb', args, {
      input: statements,
      stdio: ['pipe', 'pipe', 'pipe'],
      maxBuffer: 1 << 28,
    }).toString();
  }

  /** The path of a file of its data. */
  file(path: string): string {
    return join(this.folder, 'data', path);
  }

  /** A dump by the server's own dump program. */
  dump(database: string, ...options: string[]): Buffer {
    return execFileSync(
      'mariadb-dump',
      [
        '--no-defaults',
        `--socket=${this.socket}`,
        '-uroot',
        '--default-character-set=utf8mb4',
        ...options,
        database,
      ],
      { maxBuffer: 1 << 28 },
    );
  }

  async close(): Promise<void> {
    await this.end();
    rmSync(this.folder, { recursive: true, force: true });
  }
}

/** A server for the tests of one file, which ask for it after they have seen that its programs are there. */
export function databaseForTests(): () => OwnDatabase {
  let database: OwnDatabase | undefined;
  let failed: unknown;
  before(async () => {
    database = await OwnDatabase.start().catch(error => {
      failed = error;
      return undefined;
    });
  });
  after(() => database?.close());
  return () => {
    if (!database) throw new Error(`the database server did not start: ${failed}`, { cause: failed });
    return database;
  };
}

/** What a dump by the server's own program says, without what a load may change and no row or column is. */
export function comparable(dump: Buffer): string {
  return dump
    .toString('latin1')
    .replace(/\/\*!50017 DEFINER=\S+ \*\/|DEFINER=`[^`]*`@`[^`]*`|\/\*!50013 .*?\*\//g, '')
    .replace(/^.*SET (?:sql_mode|time_zone).*$|^-- Dump completed.*$/gm, '');
}
