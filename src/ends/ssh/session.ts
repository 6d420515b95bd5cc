import type { Duplex } from 'node:stream';
import pRetry from 'p-retry';
import type { ClientChannel, SFTPWrapper } from 'ssh2';
import { EndError, PorterError } from '../../core/errors.js';
import { BackOff } from '../back-off.js';
import type { HostKeys } from '../trust/host-keys.js';
import { ChannelRefused } from './channel-refused.js';
import type { CommandEnd, SshConnection } from './connection.js';
import type { SshLogin } from './login.js';
import { asking, type Program, programsIn } from './programs.js';
import { openSocket } from './socket.js';

/** How often a host that ends a connection before it has begun is asked again. */
const triesWhenCut = 3;

/** An account at a host: connects when it is first needed, and again when the connection was lost. */
export class SshSession {
  /** Takes what a person should know while something is waited for. */
  report: (text: string) => void = () => {};
  readonly login: SshLogin;
  private readonly hostKeys: HostKeys;
  private connection: Promise<SshConnection> | undefined;
  /** Where the host lets only some channels be open on a connection: others besides the first. */
  private more: SshConnection[] = [];
  private making: Promise<void> = Promise.resolve();
  private readonly backOffOfMore: BackOff;
  /** The connection with the channel for files, and the last one on which that was tried. */
  private withFiles: Promise<SshConnection> | undefined;
  private triedForFiles: SshConnection | undefined;
  private programs: Promise<ReadonlySet<Program>> | undefined;
  private closed = false;
  private compresses = false;

  constructor(login: SshLogin, hostKeys: HostKeys) {
    this.login = login;
    this.hostKeys = hostKeys;
    this.backOffOfMore = new BackOff(login.host);
  }

  /**
   * Begins to connect before that is needed. Whoever needs it first hears of its error.
   * @returns what ends when only the host is waited for, and there is time for other things
   */
  connectAhead(): Promise<void> {
    return new Promise(resolve => {
      this.connection ??= this.openedAtLast(resolve);
      this.connection.catch(() => {}).finally(resolve);
    });
  }

  /**
   * Does something with the channel for files; when the connection is lost, comes back and does it again.
   * @param work must be safe to do again
   */
  files<T>(work: (sftp: SFTPWrapper) => Promise<T>): Promise<T> {
    return this.untilDone(async using => {
      const connection = await this.connectedForFiles(using);
      using(connection);
      return connection.whileConnected(connection.sftp().then(work));
    });
  }

  /** Runs a command; when the connection is lost, comes back and runs it again. */
  run(
    command: string,
    { input, most }: { input?: () => AsyncIterable<Buffer>; most?: number } = {},
  ): Promise<CommandEnd> {
    return this.untilDone(async using =>
      this.whereRoomIs(await this.connected(), using, connection => connection.run(command, input?.(), most)),
    );
  }

  /** Starts a command, once. */
  start(command: string): Promise<ClientChannel> {
    return this.untilDone(async using =>
      this.whereRoomIs(await this.connected(), using, connection => connection.start(command)),
    );
  }

  /** A line from the host to a port that it reaches, such as its own database server's. */
  async reach(host: string, port: number): Promise<Duplex> {
    return (await this.connected()).forward(host, port);
  }

  /** A line to a socket of the host. */
  async reachSocket(path: string): Promise<Duplex> {
    return (await this.connected()).forwardSocket(path);
  }

  /** Whether the account may run a shell, and whether it has a program that can do what is needed. */
  async has(program: Program): Promise<boolean> {
    this.programs ??= this.programsOf(this.run(asking));
    return (await this.programs).has(program);
  }

  /**
   * Runs a command whose output begins with a mark that ends with NUL. Where nothing is known of the account's programs
   * they are asked for before it: some accounts' shells take long to begin.
   */
  async runAsking(command: string, { most }: { most: number }): Promise<CommandEnd> {
    if (this.programs) return this.run(command, { most });
    const end = this.run(`${asking}; ${command}`, { most });
    this.programs = this.programsOf(end);
    return end;
  }

  close(): void {
    this.closed = true;
    this.closeAll();
  }

  /** Compresses what passes from now on. Nothing may be under way: other connections take the place of those there are. */
  compress(): void {
    if (this.compresses) return;
    this.compresses = true;
    this.closeAll();
    this.withFiles = undefined;
    this.triedForFiles = undefined;
    this.more = [];
  }

  private closeAll(): void {
    for (const connection of this.more) connection.close();
    this.connection?.then(
      connection => connection.close(),
      () => {},
    );
    this.connection = undefined;
  }

  private programsOf(end: Promise<CommandEnd>): Promise<ReadonlySet<Program>> {
    return end.then(
      ({ out }) => programsIn(out),
      () => new Set<Program>(),
    );
  }

  /** The connection with the channel for files; one is opened for all who ask for it meanwhile. */
  private async connectedForFiles(using: (connection: SshConnection) => void): Promise<SshConnection> {
    this.withFiles ??= this.connected().then(first =>
      this.whereRoomIs(
        first,
        connection => {
          this.triedForFiles = connection;
        },
        async connection => {
          await connection.sftp();
          return connection;
        },
      ),
    );
    const { withFiles } = this;
    try {
      return await withFiles;
    } catch (error) {
      if (this.withFiles === withFiles) this.withFiles = undefined;
      if (this.triedForFiles) using(this.triedForFiles);
      throw error;
    }
  }

  /** Does something until no lost connection prevents it. @param work reports which connection it uses */
  private async untilDone<T>(work: (using: (connection: SshConnection) => void) => Promise<T>): Promise<T> {
    for (;;) {
      let used: SshConnection | undefined;
      try {
        return await work(connection => {
          used = connection;
        });
      } catch (error) {
        if (!used || !(await this.wasLost(used, error))) throw error;
      }
    }
  }

  /** Does something on the first connection that has room for it, and on another one where none has. */
  private async whereRoomIs<T>(
    first: SshConnection,
    using: (connection: SshConnection) => void,
    work: (connection: SshConnection) => Promise<T>,
  ): Promise<T> {
    using(first);
    for (;;) {
      if (first.lost) throw first.lost;
      for (const connection of [first, ...this.more]) {
        if (connection.lost || !connection.hasRoom) continue;
        using(connection);
        try {
          const done = await work(connection);
          if (connection !== first) this.backOffOfMore.reset();
          return done;
        } catch (error) {
          if (!(error instanceof ChannelRefused)) throw error;
        }
      }
      // One after the other, since the first may have room for the next.
      this.making = this.making.catch(() => {}).then(() => this.makeRoom());
      await this.making.catch(error => {
        // Then nobody is to be reached.
        throw first.lost ?? error;
      });
    }
  }

  private async makeRoom(): Promise<void> {
    if (!this.more.some(({ hasRoom, lost }) => hasRoom && !lost)) this.more.push(await this.openedAtLast());
  }

  /** A host that ends a connection before it has begun may have too many; it is asked again a few times. */
  private openedAtLast(setOff?: () => void): Promise<SshConnection> {
    return pRetry(() => this.opened(setOff), {
      retries: triesWhenCut,
      minTimeout: 1000,
      shouldRetry: ({ error }) => error instanceof EndError && error.kind === 'connection cut',
      onFailedAttempt: ({ error, retriesLeft }) => {
        if (retriesLeft > 0 && error instanceof EndError && error.kind === 'connection cut')
          this.report(`${this.login.host} ended the connection; trying again`);
      },
    });
  }

  /** What speaks the protocol is loaded only when a place is reached by it, while the line to it is made. */
  private async opened(setOff?: () => void): Promise<SshConnection> {
    const line = openSocket(this.login);
    const { SshConnection: Connection } = await import('./connection.js');
    return Connection.open(this.login, this.hostKeys, { line, setOff, compresses: this.compresses });
  }

  private connected(): Promise<SshConnection> {
    this.connection ??= this.openedAtLast().catch(error => {
      this.connection = undefined;
      throw error;
    });
    return this.connection;
  }

  /** Whether an error is that of a lost connection; if so, comes back only when the host answers again. */
  private async wasLost(connection: SshConnection, error: unknown): Promise<boolean> {
    // A channel may end a moment before the connection says why.
    await new Promise(resolve => setImmediate(resolve));
    if (
      !connection.lost &&
      !/No response from server|Channel open failure|Not connected/i.test(String(error))
    )
      return false;
    if (this.closed || error instanceof PorterError) return false;
    if (connection === this.triedForFiles) this.withFiles = undefined;
    if (this.more.includes(connection)) {
      this.more = this.more.filter(one => one !== connection);
      connection.close();
      await this.backOffOfMore.wait(this.report, error);
      return true;
    }
    const mine = await this.connection?.catch(() => undefined);
    if (mine && mine !== connection) return true;
    if (this.connection) {
      this.connection = this.comeBack();
      connection.close();
    }
    await this.connection;
    return true;
  }

  private async comeBack(): Promise<SshConnection> {
    const backOff = new BackOff(this.login.host);
    for (;;) {
      await backOff.wait(this.report);
      try {
        const connection = await this.opened();
        this.report(`The connection to ${this.login.host} is there again`);
        return connection;
      } catch (error) {
        const mayPass =
          error instanceof EndError && error.kind !== 'untrusted' && error.kind !== 'credentials';
        if (!mayPass) throw error;
      }
    }
  }
}
