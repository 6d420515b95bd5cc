import { createReadStream, createWriteStream } from 'node:fs';
import { chmod, utimes } from 'node:fs/promises';
import { type AddressInfo, createServer, type Server, type Socket } from 'node:net';
import { posix } from 'node:path';
import { createInterface } from 'node:readline';
import { pipeline } from 'node:stream/promises';
import type { HostEntry, HostFolder } from './host-folder.js';
import { HostServer, type StandinAccount } from './host-server.js';
import type { Misbehaviour } from './misbehaviour.js';

/**
 * An FTP server that simulates that of a host, on a free loopback port: one account, whose file system is a folder of
 * this machine. It knows what common servers know (RFC 959, 2428, 3659).
 */
export class StandinFtpServer extends HostServer {
  private readonly listings: 'modern' | 'old';

  /** @param listings whether it has MLSD, or only the listings of old that look like those of `ls` */
  constructor(folder: string, account: StandinAccount, listings: 'modern' | 'old' = 'modern') {
    super(folder, account);
    this.listings = listings;
  }

  protected meet(socket: Socket): void {
    new FtpConnection(socket, this.host, this.account, this.listings, this.misbehaviour);
  }

  protected override turnAway(socket: Socket): void {
    socket.end('421 Too many connections\r\n', () => socket.destroy());
  }
}

type Answer = string | undefined;

/** One control connection: a command after the other, each answered before the next. */
class FtpConnection {
  private readonly socket: Socket;
  private readonly host: HostFolder;
  private readonly account: StandinAccount;
  private readonly listings: 'modern' | 'old';
  private readonly misbehaviour: Misbehaviour;
  private folder = '/';
  private user = '';
  private isIn = false;
  private restart = 0;
  private renaming: string | undefined;
  /** Data connections that are not there yet. */
  private readonly waiting = new Set<Server>();
  private gone: () => void = () => {};
  private data: { server: Server; socket: Promise<Socket> } | undefined;

  constructor(
    socket: Socket,
    host: HostFolder,
    account: StandinAccount,
    listings: 'modern' | 'old',
    misbehaviour: Misbehaviour,
  ) {
    this.socket = socket;
    this.host = host;
    this.account = account;
    this.listings = listings;
    this.misbehaviour = misbehaviour;
    socket.setEncoding('utf8');
    socket.on('close', () => {
      for (const server of this.waiting) server.close();
      this.gone();
    });
    this.say('220 A simulated host');
    this.listen().catch(() => socket.destroy());
  }

  private async listen(): Promise<void> {
    for await (const line of createInterface({ input: this.socket })) {
      const [, word = '', rest = ''] = /^(\S+) ?(.*)$/.exec(line) ?? [];
      await this.misbehaviour.wait();
      let answer: Answer;
      try {
        answer = await this.answer(word.toUpperCase(), rest);
      } catch (error) {
        answer = refusal(error as NodeJS.ErrnoException);
      }
      if (answer !== undefined) this.say(answer);
      if (answer?.startsWith('221')) this.socket.end();
    }
  }

  private say(answer: string): void {
    if (!this.socket.destroyed) this.socket.write(`${answer}\r\n`);
  }

  private answer(word: string, rest: string): Promise<Answer> | Answer {
    const login = this.answerLogin(word, rest);
    if (login !== undefined) return login;
    if (!this.isIn) return '530 Log in first';
    const path = posix.resolve(this.folder, rest);
    switch (word) {
      case 'TYPE':
      case 'NOOP':
      case 'OPTS':
        return '200 Well';
      case 'PWD':
        return `257 "${this.folder.replaceAll('"', '""')}"`;
      case 'CWD':
        return this.enter(path);
      case 'CDUP':
        return this.enter(posix.dirname(this.folder));
      case 'PASV':
      case 'EPSV':
        return this.openData(word);
      case 'LIST':
      case 'MLSD':
        // Options of `ls` may be before the path.
        return this.list(word, posix.resolve(this.folder, rest.replace(/^-\S+ ?/, '')));
      case 'SIZE':
        return this.host.entry(path).then(({ size }) => `213 ${size + this.misbehaviour.sizeLie}`);
      case 'MDTM':
        return this.host.entry(path).then(({ mtime }) => `213 ${stamp(mtime)}`);
      case 'REST':
        this.restart = Number(rest);
        return `350 From ${this.restart}`;
      case 'RETR':
        return this.send(path);
      case 'STOR':
      case 'APPE':
        return this.receive(path, word === 'APPE' ? 'a' : this.restart > 0 ? 'r+' : 'w');
      default:
        return this.answerChange(word, rest, path);
    }
  }

  private answerLogin(word: string, rest: string): Answer {
    switch (word) {
      case 'USER':
        this.user = rest;
        return '331 And the password?';
      case 'PASS':
        this.isIn = this.user === this.account.user && rest === this.account.password;
        return this.isIn ? '230 In' : '530 Login incorrect';
      case 'SYST':
        return '215 UNIX Type: L8';
      case 'FEAT': {
        const more = this.listings === 'modern' ? ' MLST type*;size*;modify*;UNIX.mode*;\r\n MFMT\r\n' : '';
        return `211-What there is\r\n UTF8\r\n EPSV\r\n SIZE\r\n MDTM\r\n REST STREAM\r\n${more}211 End`;
      }
      case 'QUIT':
        return '221 Farewell';
      default:
        return undefined;
    }
  }

  private async answerChange(word: string, rest: string, path: string): Promise<Answer> {
    switch (word) {
      case 'DELE':
        await this.host.removeFile(path);
        return '250 Gone';
      case 'MKD':
        await this.host.makeFolder(path);
        return `257 "${path.replaceAll('"', '""')}" made`;
      case 'RMD':
        await this.host.removeFolder(path);
        return '250 Gone';
      case 'RNFR':
        await this.host.entry(path);
        this.renaming = path;
        return '350 To what?';
      case 'RNTO':
        await this.host.rename(this.renaming ?? '', path);
        return '250 Renamed';
      case 'SITE': {
        const [, mode, file] = /^CHMOD ([0-7]+) (.*)$/i.exec(rest) ?? [];
        if (mode === undefined || file === undefined) return '504 Not known';
        await chmod(await this.host.real(posix.resolve(this.folder, file)), Number.parseInt(mode, 8));
        return '200 Set';
      }
      case 'MFMT': {
        const [, time, file] = /^(\d{14}) (.*)$/.exec(rest) ?? [];
        if (time === undefined || file === undefined || this.listings === 'old') return '500 Not known';
        const at = new Date(time.replace(/(....)(..)(..)(..)(..)(..)/, '$1-$2-$3T$4:$5:$6Z'));
        await utimes(await this.host.real(posix.resolve(this.folder, file)), at, at);
        return `213 Modify=${time}; ${file}`;
      }
      default:
        return '500 Not known';
    }
  }

  private async enter(path: string): Promise<Answer> {
    if (path !== '/' && (await this.host.entry(path)).kind !== 'folder') return '550 Not a directory';
    this.folder = path;
    return '250 There';
  }

  private async openData(word: 'PASV' | 'EPSV'): Promise<Answer> {
    const server = createServer();
    const socket = new Promise<Socket>(resolve => server.once('connection', resolve));
    await new Promise<void>(resolve => server.listen(0, this.socket.localAddress, resolve));
    this.data = { server, socket };
    this.waiting.add(server);
    const { port } = server.address() as AddressInfo;
    if (word === 'EPSV') return `229 Entering Extended Passive Mode (|||${port}|)`;
    return `227 Entering Passive Mode (127,0,0,1,${port >> 8},${port & 255})`;
  }

  /** Uses the data connection once. */
  private async transfer(work: (socket: Socket) => Promise<void>): Promise<Answer> {
    if (!this.data) return '425 Open a data connection first';
    const { server, socket } = this.data;
    this.data = undefined;
    this.say('150 Here it comes');
    const leaves = new Promise<never>((_, reject) => {
      this.gone = () => reject(new Error('the client has gone'));
    });
    leaves.catch(() => {});
    const data = await Promise.race([socket, leaves]);
    this.misbehaviour.watch(data);
    try {
      await work(data);
    } finally {
      data.end();
      server.close();
      this.waiting.delete(server);
    }
    return '226 Done';
  }

  private async list(word: 'LIST' | 'MLSD', path: string): Promise<Answer> {
    if (word === 'MLSD' && this.listings === 'old') return '500 Not known';
    const entries = await this.host.list(path);
    const lie = this.misbehaviour.sizeLie;
    const lines = entries.map(entry => (word === 'MLSD' ? modernLine(entry, lie) : oldLine(entry, lie)));
    return this.transfer(async socket => {
      socket.write(lines.map(line => `${line}\r\n`).join(''));
    });
  }

  private async send(path: string): Promise<Answer> {
    const start = this.restart;
    this.restart = 0;
    const real = await this.host.real(path);
    await this.host.entry(path);
    return this.transfer(socket =>
      pipeline(createReadStream(real, { start }), content => this.counted(content), socket),
    );
  }

  private async receive(path: string, flags: 'a' | 'r+' | 'w'): Promise<Answer> {
    const start = this.restart;
    this.restart = 0;
    const file = createWriteStream(await this.host.real(path), {
      flags,
      ...(flags === 'r+' ? { start } : {}),
    });
    await new Promise((resolve, reject) => file.once('open', resolve).once('error', reject));
    return this.transfer(socket => pipeline(socket, content => this.roomFor(this.counted(content)), file));
  }

  private async *counted(content: AsyncIterable<Buffer>): AsyncIterable<Buffer> {
    for await (const chunk of content) {
      this.misbehaviour.passed(chunk.length);
      yield chunk;
    }
  }

  private async *roomFor(content: AsyncIterable<Buffer>): AsyncIterable<Buffer> {
    let full: unknown;
    // As some servers do it, the rest is read and thrown away.
    for await (const chunk of content) {
      try {
        this.misbehaviour.take(chunk.length);
        if (!full) yield chunk;
      } catch (error) {
        full = error;
      }
    }
    if (full) throw full;
  }
}

function refusal({ code, message }: NodeJS.ErrnoException): string {
  if (code === 'ENOENT' || code === 'ENOTDIR') return '550 No such file or directory';
  if (code === 'EACCES' || code === 'EPERM') return '550 Permission denied';
  if (code === 'ENOSPC') return '452 No space left on device';
  return `550 ${message.split('\n')[0]}`;
}

function stamp(time: Date): string {
  return time.toISOString().replace(/[-:T]|\..*$/g, '');
}

/** A line of a listing for machines (RFC 3659, section 7). */
function modernLine({ name, kind, size, mode, mtime }: HostEntry, lie: number): string {
  const type = { file: 'file', folder: 'dir', link: 'OS.unix=symlink' }[kind];
  return `type=${type};size=${size + lie};modify=${stamp(mtime)};UNIX.mode=0${(mode & 0o7777).toString(8)}; ${name}`;
}

/** A line as `ls -l` has it: with the minute for times of the last half year, with the year for older ones. */
function oldLine({ name, kind, size, mode, mtime }: HostEntry, lie: number): string {
  const letters = [6, 3, 0]
    .map(shift => ['r', 'w', 'x'].map((letter, i) => ((mode >> shift) & (4 >> i) ? letter : '-')).join(''))
    .join('');
  const [, day, month, year] = mtime.toUTCString().split(' ');
  const recent = Date.now() - mtime.getTime() < 180 * 86_400_000;
  const when = recent ? mtime.toISOString().slice(11, 16) : ` ${year}`;
  const first = { file: '-', folder: 'd', link: 'l' }[kind];
  return `${first}${letters} 1 porter porter ${String(size + lie).padStart(10)} ${month} ${day} ${when} ${name}`;
}
