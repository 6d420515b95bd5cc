import { readFile } from 'node:fs/promises';
import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import ssh, { Client, type ClientChannel, type ConnectConfig, type SFTPWrapper } from 'ssh2';
import { EndError, PorterError } from '../../core/errors.js';
import type { HostKeys } from '../trust/host-keys.js';
import { ChannelRefused } from './channel-refused.js';
import type { SshLogin } from './login.js';
import { openSocket } from './socket.js';

const patience = 20_000;
const keepAlive = 10_000;
const closed = 'the server closed the connection';

/** The result of a command. */
export interface CommandEnd {
  /** -1 where it did not end on its own. */
  readonly code: number;
  readonly out: Buffer;
  readonly err: string;
}

/** A connection to an account over SSH, with one channel for files and as many for commands as are asked for. */
export class SshConnection {
  private readonly client: Client;
  private readonly jump: SshConnection | undefined;
  private files: Promise<SFTPWrapper> | undefined;
  /** Set once the connection is no more. */
  lost: Error | undefined;
  private readonly onLost = new Set<(error: Error) => void>();
  /** Channels for files and commands that are open or being opened, and how many the host lets be open. */
  private channels = 0;
  private mostChannels = Number.POSITIVE_INFINITY;
  private hadChannel = false;

  private constructor(client: Client, jump: SshConnection | undefined) {
    this.client = client;
    this.jump = jump;
    const end = (error: Error) => {
      this.lost ??= error;
      for (const listener of this.onLost) listener(this.lost);
      this.onLost.clear();
    };
    client.on('error', end);
    client.on('close', () => end(new Error('the connection was closed')));
  }

  /** Waits for work that would never end if the connection were lost meanwhile: then it fails. */
  async whileConnected<T>(work: Promise<T>): Promise<T> {
    // Where it fails after the connection did, that was said already.
    work.catch(() => {});
    if (this.lost) throw this.lost;
    let listener: ((error: Error) => void) | undefined;
    const lost = new Promise<never>((_, reject) => {
      listener = reject;
      this.onLost.add(reject);
    });
    try {
      return await Promise.race([work, lost]);
    } finally {
      this.onLost.delete(listener!);
    }
  }

  /**
   * Connects and logs in.
   * @param line one that was begun already, where there is no host to go through
   * @param setOff is called once only a host is waited for
   * @param compresses whether what passes is compressed where the host takes that (RFC 4253, section 6.2)
   * @throws EndError when the host cannot be reached, its key is not the known one, or it refuses the login
   */
  static async open(
    login: SshLogin,
    hostKeys: HostKeys,
    {
      line = openSocket(login),
      setOff = () => {},
      compresses = false,
    }: { line?: Socket | undefined; setOff?: (() => void) | undefined; compresses?: boolean } = {},
  ): Promise<SshConnection> {
    const jump = login.through && (await SshConnection.open(login.through, hostKeys, { setOff }));
    const sock = jump ? await jump.forward(login.host, login.port) : line!;
    const client = new Client();
    // A connection that fails in its first moment shows it more than once; the first is what is reported.
    client.on('error', () => {});
    let refusal: string | undefined;
    try {
      const config: ConnectConfig = {
        host: login.host,
        port: login.port,
        username: login.user,
        readyTimeout: patience,
        keepaliveInterval: keepAlive,
        keepaliveCountMax: 3,
        sock,
        algorithms: {
          serverHostKey: await keyOrder(hostKeys, login),
          compress: compresses ? ['zlib@openssh.com', 'none'] : ['none'],
        },
        hostVerifier: (key: Buffer, verify: (good: boolean) => void) => {
          hostKeys.refuses(login.host, login.port, key, login.hostKey).then(
            why => {
              refusal = why;
              verify(why === undefined);
            },
            () => verify(false),
          );
        },
        authHandler: (await waysIn(login)) as never,
      };
      if (sock.errored) throw sock.errored;
      await new Promise<void>((resolve, reject) => {
        client
          .once('ready', resolve)
          .once('error', reject)
          .once('close', () => {
            reject(new Error(closed));
          });
        client.connect(config);
        setOff();
      });
    } catch (error) {
      client.end();
      sock.destroy();
      jump?.close();
      if (error instanceof PorterError) throw error;
      throw asEndError(error as Error & { level?: string }, login, refusal);
    }
    return new SshConnection(client, jump);
  }

  /** Whether another channel can be opened, as far as that is known. */
  get hasRoom(): boolean {
    return this.channels < this.mostChannels;
  }

  /** The channel for files. @throws ChannelRefused */
  sftp(): Promise<SFTPWrapper> {
    this.files ??= this.channel<SFTPWrapper>(done => this.client.sftp(done)).catch(error => {
      throw /subsystem/.test((error as Error).message) ? withoutSftp(error) : error;
    });
    this.files.catch(() => {
      this.files = undefined;
    });
    return this.files;
  }

  /** Starts a command at the far side. @throws ChannelRefused */
  async start(command: string): Promise<ClientChannel> {
    const channel = await this.channel<ClientChannel>(done => this.client.exec(command, done));
    const end = () => channel.destroy();
    this.onLost.add(end);
    channel.once('close', () => this.onLost.delete(end));
    // Whoever reads it hears of its error.
    channel.on('error', () => {});
    return channel;
  }

  /**
   * Runs a command at the far side; gives its exit code and what it printed.
   * @param most bytes that it may print; it is ended where there are more, and then has no exit code
   * @throws ChannelRefused
   */
  async run(
    command: string,
    input?: AsyncIterable<Buffer>,
    most = Number.POSITIVE_INFINITY,
  ): Promise<CommandEnd> {
    const channel = await this.start(command);
    const out: Buffer[] = [];
    const err: Buffer[] = [];
    let printed = 0;
    channel.on('data', (chunk: Buffer) => {
      printed += chunk.length;
      if (printed > most) channel.close();
      else out.push(chunk);
    });
    channel.stderr.on('data', (chunk: Buffer) => err.push(chunk));
    const ended = new Promise<number>((resolve, reject) => {
      let code = -1;
      channel.on('exit', (given: number | null) => {
        code = given ?? -1;
      });
      channel.on('close', () => (this.lost ? reject(this.lost) : resolve(code)));
      channel.on('error', reject);
    });
    // The line may be lost while there is still something to send.
    ended.catch(() => {});
    if (input) {
      for await (const chunk of input) {
        if (!channel.write(chunk))
          await this.whileConnected(new Promise(resolve => channel.once('drain', resolve)));
      }
    }
    channel.end();
    const code = await this.whileConnected(ended);
    return {
      code: printed > most ? -1 : code,
      out: Buffer.concat(out),
      err: Buffer.concat(err).toString().trim(),
    };
  }

  private async channel<Opened extends SFTPWrapper | ClientChannel>(
    open: (done: (error: Error | undefined, opened: Opened) => void) => void,
  ): Promise<Opened> {
    const others = this.channels++;
    try {
      const opened = await this.whileConnected(
        new Promise<Opened>((resolve, reject) => {
          open((error, one) => (error ? reject(error) : resolve(one)));
        }),
      );
      this.hadChannel = true;
      (opened as ClientChannel).once('close', () => this.channels--);
      return opened;
    } catch (error) {
      this.channels--;
      // A host that refuses the first has another reason; later it may not have put away yet what was closed.
      const isFull = (others > 0 || this.hadChannel) && /Channel open failure/.test(String(error));
      if (this.lost || !isFull) throw error;
      this.mostChannels = Math.min(this.mostChannels, Math.max(1, others));
      throw new ChannelRefused('the host lets no more channels be open on a connection', { cause: error });
    }
  }

  close(): void {
    this.client.end();
    this.jump?.close();
  }

  /** A line from the far side to a port of a host that it reaches. */
  forward(host: string, port: number): Promise<Duplex> {
    return this.whileConnected(
      new Promise((resolve, reject) => {
        this.client.forwardOut('127.0.0.1', 0, host, port, (error, channel) =>
          error ? reject(error) : resolve(channel),
        );
      }),
    );
  }

  /** A line to a socket of the far side (an extension of OpenSSH: PROTOCOL, section 2.4). */
  forwardSocket(path: string): Promise<Duplex> {
    return this.whileConnected(
      new Promise((resolve, reject) => {
        this.client.openssh_forwardOutStreamLocal(path, (error, channel) =>
          error ? reject(error) : resolve(channel),
        );
      }),
    );
  }
}

/** The ways in that the login has, in the order in which they are tried. */
async function waysIn(login: SshLogin): Promise<object[]> {
  const username = login.user;
  const ways: object[] = [];
  for (const path of login.keys) {
    const key = await readFile(path).catch(() => undefined);
    if (!key) continue;
    const parsed = ssh.utils.parseKey(key, login.passphrase);
    if (parsed instanceof Error) continue;
    ways.push({ type: 'publickey', username, key, passphrase: login.passphrase });
  }
  const agent = process.env.SSH_AUTH_SOCK;
  if (agent) ways.push({ type: 'agent', username, agent });
  if (login.password !== undefined) {
    ways.push({ type: 'password', username, password: login.password });
    ways.push({
      type: 'keyboard-interactive',
      username,
      prompt: (
        _name: string,
        _instructions: string,
        _language: string,
        prompts: readonly unknown[],
        answer: (answers: string[]) => void,
      ) => answer(prompts.map(() => login.password!)),
    });
  }
  return ways;
}

/** The kinds of host keys to ask for: those that are known first, as other SSH programs do. */
async function keyOrder(hostKeys: HostKeys, { host, port }: SshLogin): Promise<never[]> {
  const all = [
    'ssh-ed25519',
    'ecdsa-sha2-nistp256',
    'ecdsa-sha2-nistp384',
    'ecdsa-sha2-nistp521',
    'rsa-sha2-512',
    'rsa-sha2-256',
  ];
  const known = (await hostKeys.typesOf(host, port)).flatMap(type =>
    type === 'ssh-rsa' ? ['rsa-sha2-512', 'rsa-sha2-256'] : [type],
  );
  const first = all.filter(type => known.includes(type));
  return [...first, ...all.filter(type => !first.includes(type))] as never[];
}

function asEndError(
  error: Error & { level?: string; code?: string },
  login: SshLogin,
  refusal: string | undefined,
): EndError {
  const doing = `Connecting to ${login.user}@${login.host}:${login.port}`;
  if (refusal !== undefined) {
    return new EndError(
      {
        doing,
        kind: 'untrusted',
        cause: refusal,
        remedy:
          'Compare it with what the host’s panel shows; if it is right, write it into the sheet as host-key',
      },
      { cause: error },
    );
  }
  if (error.level === 'client-authentication') {
    return new EndError(
      {
        doing,
        kind: 'credentials',
        cause: 'the host refuses the login',
        remedy:
          'Check user, password and key in the sheet; a password is taken from .env exactly as it is written there',
      },
      { cause: error },
    );
  }
  const cause = causes[error.code ?? ''] ?? error.message;
  const kind = isCutOff(error) ? 'connection cut' : 'unreachable';
  return new EndError(
    { doing, kind, cause, remedy: 'Check host and port, and that the host lets this address in' },
    { cause: error },
  );
}

function withoutSftp(cause: unknown): EndError {
  return new EndError(
    {
      doing: 'Opening SFTP',
      cause: 'the host lets this account in and offers no SFTP',
      remedy: 'Ask the host to allow SFTP, or name the place by another protocol (ftps://)',
    },
    { cause },
  );
}

/** A host that has too many connections ends one before it has begun: the package says so in words alone. */
function isCutOff({ code, message }: Error & { code?: string }): boolean {
  return (
    code === 'ECONNRESET' || code === 'EPIPE' || message === closed || /lost before handshake/.test(message)
  );
}

const causes: Readonly<Record<string, string>> = {
  ECONNREFUSED: 'nobody listens there',
  ENOTFOUND: 'there is no host of that name',
  ETIMEDOUT: 'it does not answer',
  EHOSTUNREACH: 'there is no way to that host',
};
