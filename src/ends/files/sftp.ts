import { once } from 'node:events';
import { pipeline } from 'node:stream/promises';
import type { Attributes, FileEntryWithStats, SFTPWrapper, Stats } from 'ssh2';
import { extract, pack } from 'tar-stream';
import { asBytes, type ByteString, bytesOf, bytesOfText, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import { type FileEntry, staysInside } from '../../core/files/entries.js';
import { oneChunk } from '../content.js';
import { inTurns } from '../in-turns.js';
import type { SshSession } from '../ssh/session.js';
import { asTrouble } from '../trouble.js';
import type { FilesEnd, FileToWrite } from './files-end.js';
import { sumsByReading } from './sums.js';

/** What every server takes in one request (draft-ietf-secsh-filexfer-02, section 3). */
const piece = 32 * 1024;
/** Requests under way at once for one file. */
const ahead = 32;
/** Folders that are listed at once, and whose listings are kept before their turn. */
const listings = 32;
const mostAhead = 4000;

type Callback<T> = (error: Error | undefined | null, value: T) => void;

/** A folder at a host that speaks SFTP. */
export class SftpFiles implements FilesEnd {
  readonly place: string;
  readonly far = true;
  readonly makesLinks = true;
  readonly atOnce = 64;
  readonly namesAreBytes = false;
  private readonly session: SshSession;
  private readonly root: string;
  private tar: Promise<boolean> | undefined;

  /** @param root its absolute path at the far side */
  constructor(session: SshSession, place: string, root: string) {
    this.session = session;
    this.place = place;
    this.root = root;
  }

  takesName(path: ByteString): boolean {
    return bytesOfText(textOf(path)) === path;
  }

  runsCommands(): Promise<boolean> {
    return this.session.runsCommands();
  }

  async room(): Promise<{ bytes: number; files: number | undefined } | undefined> {
    type Seen = {
      f_bavail: number | bigint;
      f_frsize: number | bigint;
      f_files: number | bigint;
      f_favail: number | bigint;
    };
    try {
      const seen = await this.ask<Seen>('room', (sftp, done) =>
        sftp.ext_openssh_statvfs(this.root, done as never),
      );
      const total = Number(seen.f_files);
      return {
        bytes: Number(seen.f_bavail) * Number(seen.f_frsize),
        files: total > 0 ? Number(seen.f_favail) : undefined,
      };
    } catch {
      return undefined;
    }
  }

  async isThere(): Promise<boolean> {
    try {
      return (await this.ask<Stats>('', (sftp, done) => sftp.lstat(this.root, done))).isDirectory();
    } catch (error) {
      if (isMissing(error)) return false;
      throw error;
    }
  }

  async *list(skip: (entry: FileEntry) => boolean, signal: AbortSignal): AsyncIterable<FileEntry> {
    const found = await this.findAll();
    const ahead = new Listings(
      async folder => found?.get(folder) ?? (found ? [] : this.entriesIn(folder)),
      skip,
    );
    const folders: ByteString[] = [asBytes('')];
    ahead.want(folders[0]!);
    for (let folder = folders.pop(); folder !== undefined; folder = folders.pop()) {
      const inside: ByteString[] = [];
      for (const entry of await ahead.get(folder)) {
        signal.throwIfAborted();
        yield entry;
        if (entry.type === 'folder') inside.push(entry.path);
      }
      folders.push(...inside.reverse());
    }
  }

  /** Everything below, by folder, told by one command where the account has a shell and a `find` that can. */
  private async findAll(): Promise<Map<ByteString, FileEntry[]> | undefined> {
    if (!(await this.runsCommands())) return undefined;
    const { code, out } = await this.session.run(
      `cd ${quoted(this.root)} && find . -mindepth 1 -printf '%y %s %m %T@ %P\\0%l\\0'`,
    );
    // What it could not look into, the other way of listing tells by its error.
    return code === 0 ? readFind(bytesOf(out)) : undefined;
  }

  async entry(path: ByteString): Promise<FileEntry | undefined> {
    const far = this.at(path);
    try {
      const stats = await this.ask<Stats>(`Looking at ${this.show(path)}`, (sftp, done) =>
        sftp.lstat(far, done),
      );
      return this.entryOf(path, stats);
    } catch (error) {
      if (isMissing(error)) return undefined;
      throw error;
    }
  }

  async *read(path: ByteString): AsyncIterable<Buffer> {
    const far = this.at(path);
    const doing = `Reading ${this.show(path)}`;
    let offset = 0;
    let open: { sftp: SFTPWrapper; handle: Buffer } | undefined;
    try {
      for (let ended = false; !ended; ) {
        const chunks: Buffer[] = [];
        await this.session.files(async sftp => {
          // After a lost link it goes on behind the last byte that was passed on.
          if (open?.sftp !== sftp)
            open = { sftp, handle: await call<Buffer>(done => sftp.open(far, 'r', done)) };
          chunks.length = 0;
          ended = await readSome(sftp, open.handle, offset, chunks);
        });
        for (const chunk of chunks) {
          offset += chunk.length;
          yield chunk;
        }
      }
    } catch (error) {
      throw trouble(error, doing);
    } finally {
      open?.sftp.close(open.handle, () => {});
    }
  }

  async checksums(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<ReadonlyMap<ByteString, string>> {
    const sums = new Map<ByteString, string>();
    if (paths.length > 0 && (await this.runsCommands())) {
      const names = Buffer.from(paths.map(path => `./${textOf(path)}\0`).join(''));
      const command = `cd ${quoted(this.root)} && xargs -0 sha256sum -z --`;
      const { out } = await this.session.run(command, () => oneChunk(names));
      for (const line of out.toString('latin1').split('\0')) {
        const [, sum, path] = /^([0-9a-f]{64}) [ *]\.\/(.*)$/s.exec(line) ?? [];
        if (sum && path !== undefined) sums.set(asBytes(path), sum);
      }
    }
    // What no command told is read back.
    const rest = paths.filter(path => !sums.has(path));
    const read = await sumsByReading(rest, this.atOnce, signal, async path =>
      (await this.entry(path))?.type === 'file' ? this.read(path) : undefined,
    );
    return new Map([...sums, ...read]);
  }

  async readMany(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): ReturnType<NonNullable<FilesEnd['readMany']>> {
    if (!(await this.hasTar())) return undefined;
    const names = Buffer.from(paths.map(path => `./${textOf(path)}\0`).join(''));
    const channel = await this.session.start(
      `cd ${quoted(this.root)} && tar -cf - --no-recursion --null -T -`,
    );
    channel.stderr.resume();
    channel.end(names);
    return entriesOf(channel, signal);
  }

  async writeMany(files: AsyncIterable<FileToWrite>, signal: AbortSignal): Promise<boolean> {
    if (!(await this.hasTar())) return false;
    const channel = await this.session.start(`cd ${quoted(this.root)} && tar -xpf -`);
    const said: Buffer[] = [];
    channel.stderr.on('data', (chunk: Buffer) => said.push(chunk));
    channel.resume();
    const ended = new Promise<number>(resolve => {
      let code = -1;
      channel.on('exit', (given: number | null) => {
        code = given ?? -1;
      });
      channel.on('close', () => resolve(code)).on('error', () => resolve(-1));
    });
    const packed = pack();
    let broken = false;
    // What the command came to is told below.
    const piped = pipeline(packed, channel, { signal }).catch(() => {
      broken = true;
    });
    for await (const { entry, content } of files) {
      signal.throwIfAborted();
      if (broken) break;
      const header = {
        name: textOf(entry.path),
        size: entry.size,
        mode: entry.mode,
        mtime: new Date(entry.mtime),
      };
      const writer = packed.entry(header) as unknown as NodeJS.WritableStream;
      writer.on('error', () => {});
      for await (const chunk of content) {
        if (broken) break;
        if (!writer.write(chunk)) await Promise.race([once(writer, 'drain').catch(() => {}), piped]);
      }
      writer.end();
    }
    packed.finalize();
    await piped;
    const code = await ended;
    if (code === 0) return true;
    throw trouble(
      Object.assign(new Error(Buffer.concat(said).toString().split('\n')[0] || 'the link was lost'), {
        code: 4,
      }),
      `Unpacking at ${this.place}`,
    );
  }

  private async hasTar(): Promise<boolean> {
    if (!(await this.runsCommands())) return false;
    this.tar ??= this.session.run('tar --version').then(
      ({ code, out }) => code === 0 && /GNU tar|bsdtar/.test(out.toString()),
      () => false,
    );
    return this.tar;
  }

  async write(
    path: ByteString,
    content: AsyncIterable<Buffer>,
    like?: Pick<FileEntry, 'mode' | 'mtime'>,
  ): Promise<void> {
    const far = this.at(path);
    const doing = `Writing ${this.show(path)}`;
    const writing = new Writing(far, like);
    try {
      for await (const chunk of content) {
        for (let at = 0; at < chunk.length; at += piece) {
          writing.add(chunk.subarray(at, at + piece));
          if (writing.full) await this.session.files(sftp => writing.send(sftp, false));
        }
      }
      await this.session
        .files(sftp => writing.send(sftp, true))
        .catch(async error => {
          if (!isMissing(error)) throw error;
          // The folder above is made only where it is missing: asking first would cost every file a round trip.
          await this.makeAbove(path);
          await this.session.files(sftp => writing.send(sftp, true));
        });
    } catch (error) {
      throw trouble(error, doing);
    }
  }

  async makeFolder(path: ByteString, mode: number): Promise<void> {
    const far = this.at(path);
    const doing = `Making the folder ${this.show(path)}`;
    const attributes = { mode: mode | 0o700 } as Attributes;
    try {
      await this.session.files(sftp => call<void>(done => sftp.mkdir(far, attributes, done)));
    } catch (error) {
      if (isMissing(error)) {
        await this.makeAbove(path);
        return this.makeFolder(path, mode);
      }
      // Most servers say only "Failure" where it is there already.
      if ((await this.entry(path))?.type !== 'folder') throw trouble(error, doing);
    }
    await this.ask<void>(doing, (sftp, done) => sftp.chmod(far, mode | 0o700, done));
  }

  async makeLink(path: ByteString, to: ByteString): Promise<void> {
    const far = this.at(path);
    await this.remove(path);
    await this.ask<void>(`Making the link ${this.show(path)}`, (sftp, done) =>
      sftp.symlink(textOf(to), far, done),
    );
  }

  async finishFolder(path: ByteString, { mode, mtime }: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void> {
    const far = this.at(path);
    const seconds = Math.round(mtime / 1000);
    await this.ask<void>(`Setting mode and time of ${this.show(path)}`, (sftp, done) =>
      sftp.setstat(far, { mode, atime: seconds, mtime: seconds }, done),
    );
  }

  async remove(path: ByteString): Promise<void> {
    const entry = await this.entry(path);
    if (!entry) return;
    const doing = `Removing ${this.show(path)}`;
    if (entry.type !== 'folder') {
      await this.ask<void>(doing, (sftp, done) => sftp.unlink(this.at(path), done)).catch(ignoreMissing);
      return;
    }
    const inside: FileEntry[] = [];
    for await (const one of this.listBelow(path)) inside.push(one);
    await inTurns(
      inside.filter(one => one.type !== 'folder'),
      this.atOnce,
      undefined,
      one => this.ask<void>(doing, (sftp, done) => sftp.unlink(this.at(one.path), done)).catch(ignoreMissing),
    );
    for (const one of inside.filter(({ type }) => type === 'folder').reverse())
      await this.ask<void>(doing, (sftp, done) => sftp.rmdir(this.at(one.path), done)).catch(ignoreMissing);
    await this.ask<void>(doing, (sftp, done) => sftp.rmdir(this.at(path), done)).catch(ignoreMissing);
  }

  async rename(from: ByteString, to: ByteString): Promise<void> {
    const [before, after] = [this.at(from), this.at(to)];
    const doing = `Renaming ${this.show(from)} to ${this.show(to)}`;
    try {
      await this.session.files(sftp => call<void>(done => sftp.rename(before, after, done)));
    } catch (error) {
      // Done already, before a link was lost: the far side has it under its new name.
      if (isMissing(error) && !(await this.entry(from)) && (await this.entry(to))) return;
      throw trouble(error, doing);
    }
  }

  private async *listBelow(folder: ByteString): AsyncIterable<FileEntry> {
    for (const entry of await this.entriesIn(folder)) {
      yield entry;
      if (entry.type === 'folder') yield* this.listBelow(entry.path);
    }
  }

  private async entriesIn(folder: ByteString): Promise<FileEntry[]> {
    const far = folder === '' ? this.root : this.at(folder);
    const found = await this.session
      .files(sftp => readFolder(sftp, far))
      .catch(error => {
        throw trouble(error, `Listing ${far}`);
      });
    const entries: FileEntry[] = [];
    for (const { filename, attrs } of found) {
      // A server may list anything; only plain names below the folder are taken.
      if (filename === '.' || filename === '..' || filename === '' || /[/\0]/.test(filename)) continue;
      const name = bytesOfText(filename);
      const path = asBytes(folder === '' ? name : `${folder}/${name}`);
      const entry = await this.entryOf(path, attrs as Stats);
      if (entry) entries.push(entry);
    }
    return entries.sort((a, b) => (a.path < b.path ? -1 : 1));
  }

  private async entryOf(path: ByteString, stats: Stats): Promise<FileEntry | undefined> {
    const kind = stats.mode & 0o170000;
    const type =
      kind === 0o100000 ? 'file' : kind === 0o040000 ? 'folder' : kind === 0o120000 ? 'link' : undefined;
    if (!type) return undefined;
    const to =
      type === 'link'
        ? bytesOfText(
            await this.ask<string>(`Reading the link ${this.show(path)}`, (sftp, done) =>
              sftp.readlink(this.at(path), done),
            ),
          )
        : undefined;
    const size = type === 'file' ? stats.size : 0;
    return { path, type, size, mode: stats.mode & 0o7777, mtime: stats.mtime * 1000, to };
  }

  private async makeAbove(path: ByteString): Promise<void> {
    const slash = path.lastIndexOf('/');
    if (slash > 0) {
      await this.makeFolder(asBytes(path.slice(0, slash)), 0o755);
      return;
    }
    const parts = this.root.split('/').filter(Boolean);
    for (let i = 1; i <= parts.length; i++) {
      const far = `/${parts.slice(0, i).join('/')}`;
      await this.session
        .files(sftp => call<void>(done => sftp.mkdir(far, { mode: 0o755 } as Attributes, done)))
        .catch(() => {
          // It is there, or what comes next says why it cannot be.
        });
    }
  }

  /** Asks the far side for one thing. */
  private ask<T>(doing: string, work: (sftp: SFTPWrapper, done: Callback<T>) => void): Promise<T> {
    return this.session
      .files(sftp => call<T>(done => work(sftp, done)))
      .catch(error => {
        throw isMissing(error) || doing === '' ? error : trouble(error, doing);
      });
  }

  private at(path: ByteString): string {
    if (!staysInside(path)) {
      throw new DamageError({
        doing: `Looking in ${this.place}`,
        cause: `the path ${JSON.stringify(textOf(path))} leads out of it`,
        remedy: 'Do not use what gave this path; take it anew',
      });
    }
    return `${this.root === '/' ? '' : this.root}/${textOf(path)}`;
  }

  private show(path: ByteString): string {
    return `${this.place}/${textOf(path)}`;
  }
}

/** Lists folders ahead of their turn, several at once, and those in them as soon as they are known. */
class Listings {
  private readonly under = new Map<string, Promise<FileEntry[]>>();
  private readonly waiting: (() => void)[] = [];
  private readonly listing: (folder: ByteString) => Promise<FileEntry[]>;
  private readonly skip: (entry: FileEntry) => boolean;
  private free = listings;

  constructor(listing: (folder: ByteString) => Promise<FileEntry[]>, skip: (entry: FileEntry) => boolean) {
    this.listing = listing;
    this.skip = skip;
  }

  want(folder: ByteString): void {
    const listed = this.list(folder);
    // Whoever gets it hears of its error.
    listed.catch(() => {});
    this.under.set(folder, listed);
  }

  async get(folder: ByteString): Promise<FileEntry[]> {
    if (!this.under.has(folder)) this.want(folder);
    const listed = this.under.get(folder)!;
    this.under.delete(folder);
    return listed;
  }

  private async list(folder: ByteString): Promise<FileEntry[]> {
    if (this.free === 0) await new Promise<void>(resolve => this.waiting.push(resolve));
    else this.free--;
    try {
      const wanted = (await this.listing(folder)).filter(entry => !this.skip(entry));
      for (const { type, path } of wanted)
        if (type === 'folder' && this.under.size < mostAhead) this.want(path);
      return wanted;
    } finally {
      const next = this.waiting.shift();
      if (next) next();
      else this.free++;
    }
  }
}

/** A file that is being written: what was not acknowledged is kept, to be sent again after a lost link. */
class Writing {
  private readonly path: string;
  private readonly like: Pick<FileEntry, 'mode' | 'mtime'> | undefined;
  private pending: Buffer[] = [];
  private offset = 0;
  private handle: { sftp: SFTPWrapper; handle: Buffer } | undefined;

  constructor(path: string, like: Pick<FileEntry, 'mode' | 'mtime'> | undefined) {
    this.path = path;
    this.like = like;
  }

  get full(): boolean {
    return this.pending.length >= ahead;
  }

  add(chunk: Buffer): void {
    // The source may use its buffer again.
    this.pending.push(Buffer.from(chunk));
  }

  /** Sends what is pending; with `last`, sets mode and time and closes. Safe to do again over another connection. */
  async send(sftp: SFTPWrapper, last: boolean): Promise<void> {
    const handle = await this.open(sftp);
    let at = this.offset;
    await Promise.all(
      this.pending.map(chunk => {
        const start = at;
        at += chunk.length;
        return call<void>(done => sftp.write(handle, chunk, 0, chunk.length, start, done));
      }),
    );
    this.offset = at;
    this.pending = [];
    if (!last) return;
    const { like } = this;
    const seconds = like && Math.round(like.mtime / 1000);
    const attributes = like ? { mode: like.mode, atime: seconds!, mtime: seconds! } : { mode: 0o644 };
    await Promise.all([
      call<void>(done => sftp.fsetstat(handle, attributes as never, done)),
      call<void>(done => sftp.close(handle, done)),
    ]);
  }

  private async open(sftp: SFTPWrapper): Promise<Buffer> {
    if (this.handle?.sftp === sftp) return this.handle.handle;
    // Anew, never through a link or into a file that is there; after a lost link, into our own.
    const again = this.handle !== undefined;
    const opening = (flags: 'wx' | 'r+') =>
      call<Buffer>(done => sftp.open(this.path, flags, { mode: 0o600 } as Attributes, done));
    let handle: Buffer;
    try {
      handle = await opening(again ? 'r+' : 'wx');
    } catch (error) {
      if (isMissing(error) || again) throw error;
      await call<void>(done => sftp.unlink(this.path, done));
      handle = await opening('wx');
    }
    this.handle = { sftp, handle };
    return handle;
  }
}

/** Reads what `find` printed: kind, size, mode, time and path of each thing, and where it points. */
function readFind(out: ByteString): Map<ByteString, FileEntry[]> {
  const types: Readonly<Record<string, FileEntry['type']>> = { f: 'file', d: 'folder', l: 'link' };
  const found = new Map<ByteString, FileEntry[]>();
  const parts = out.split('\0');
  for (let i = 0; i + 1 < parts.length; i += 2) {
    const [, kind, size, mode, seconds, path] = /^(\w) (\d+) (\d+) (-?\d+)\S* (.*)$/s.exec(parts[i]!) ?? [];
    const type = types[kind ?? ''];
    if (!type || !path || !staysInside(path)) continue;
    const slash = path.lastIndexOf('/');
    const folder = asBytes(slash < 0 ? '' : path.slice(0, slash));
    const entry: FileEntry = {
      path: asBytes(path),
      type,
      size: type === 'file' ? Number(size) : 0,
      mode: Number.parseInt(mode!, 8),
      mtime: Number(seconds) * 1000,
      to: type === 'link' ? asBytes(parts[i + 1]!) : undefined,
    };
    const list = found.get(folder);
    if (list) list.push(entry);
    else found.set(folder, [entry]);
  }
  for (const list of found.values()) list.sort((a, b) => (a.path < b.path ? -1 : 1));
  return found;
}

/** What a folder holds. Two requests are under way at once, since most folders end with the first. */
async function readFolder(sftp: SFTPWrapper, folder: string): Promise<FileEntryWithStats[]> {
  const handle = await call<Buffer>(done => sftp.opendir(folder, done));
  const found: FileEntryWithStats[] = [];
  try {
    for (let ended = false; !ended; ) {
      const parts = await Promise.all([readPart(sftp, handle), readPart(sftp, handle)]);
      for (const part of parts) {
        if (part) found.push(...part);
        else ended = true;
      }
    }
  } finally {
    sftp.close(handle, () => {});
  }
  return found;
}

/** The next names of a folder, or undefined after the last. */
function readPart(sftp: SFTPWrapper, handle: Buffer): Promise<FileEntryWithStats[] | undefined> {
  return new Promise((resolve, reject) => {
    sftp.readdir(handle, (error, list) => {
      if (!error) resolve(list);
      else if ((error as { code?: number }).code === 1) resolve(undefined);
      else reject(error);
    });
  });
}

/** Reads from an offset on, several pieces at once; gives whether the end was reached. */
async function readSome(sftp: SFTPWrapper, handle: Buffer, from: number, chunks: Buffer[]): Promise<boolean> {
  // A small file ends in the first piece. Its size is asked for along with it, so that this is known at once.
  const first = from === 0;
  const [pieces, stats] = await Promise.all([
    Promise.all(
      Array.from({ length: first ? 2 : ahead }, (_, i) => readPiece(sftp, handle, from + i * piece)),
    ),
    first ? call<Stats>(done => sftp.fstat(handle, done)) : undefined,
  ]);
  let at = from;
  for (const { chunk, end } of pieces) {
    if (chunk.length > 0) chunks.push(chunk);
    at += chunk.length;
    // A server may give less than was asked for; the rest is asked for next time.
    if (chunk.length < piece) return end || (stats !== undefined && at >= stats.size);
  }
  return false;
}

/** The files of a tar stream, each to be read before the next comes. */
async function* entriesOf(
  stream: NodeJS.ReadableStream,
  signal: AbortSignal,
): AsyncIterable<{ path: ByteString; content: AsyncIterable<Buffer> }> {
  const unpacked = extract();
  const piped = pipeline(stream, unpacked, { signal });
  // Its error comes out of the entries as well.
  piped.catch(() => {});
  for await (const entry of unpacked) {
    const path = bytesOfText(entry.header.name.replace(/^\.\//, ''));
    if (entry.header.type === 'file') yield { path, content: entry as unknown as AsyncIterable<Buffer> };
    entry.resume();
  }
  await piped;
}

function readPiece(sftp: SFTPWrapper, handle: Buffer, at: number): Promise<{ chunk: Buffer; end: boolean }> {
  const buffer = Buffer.allocUnsafe(piece);
  return new Promise((resolve, reject) => {
    sftp.read(handle, buffer, 0, piece, at, (error, count) => {
      if (error && (error as { code?: number }).code !== 1) reject(error);
      else if (error || count === 0) resolve({ chunk: buffer.subarray(0, 0), end: true });
      else resolve({ chunk: buffer.subarray(0, count), end: false });
    });
  });
}

function call<T>(work: (done: Callback<T>) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    work((error, value) => (error ? reject(error) : resolve(value)));
  });
}

/** Status codes of the protocol, as the file system's own (draft-ietf-secsh-filexfer-02, section 7). */
const codes: Readonly<Record<number, string>> = { 2: 'ENOENT', 3: 'EACCES', 14: 'ENOSPC', 15: 'EDQUOT' };

function isMissing(error: unknown): boolean {
  return (error as { code?: unknown }).code === 2;
}

function ignoreMissing(error: unknown): void {
  if (!isMissing(error)) throw error;
}

function trouble(error: unknown, doing: string): unknown {
  const { code, message } = error as { code?: unknown; message?: string };
  if (typeof code !== 'number') return asTrouble(error, doing);
  const known = codes[code];
  if (known) return asTrouble(Object.assign(new Error(message), { code: known }), doing);
  const why = code === 4 ? 'the far side says only "Failure"; its disk or quota may be full' : message;
  return asTrouble(Object.assign(new Error(why), { code: `SFTP${code}` }), doing);
}

/** A path as one word of a shell's command. */
function quoted(path: string): string {
  return `'${path.replaceAll("'", "'\\''")}'`;
}
