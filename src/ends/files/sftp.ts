import pMap from 'p-map';
import type { Attributes, FileEntryWithStats, SFTPWrapper, Stats } from 'ssh2';
import { asBytes, type ByteString, bytesOfText, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import {
  byDepth,
  elsewhere,
  type FileEntry,
  folderOf,
  isName,
  isTakable,
  type ListedEntry,
  staysInside,
} from '../../core/files/entries.js';
import { type Content, chunksOf, type FileToWrite } from '../content.js';
import { FarCommands } from '../ssh/commands.js';
import { RemoteFileWriter } from '../ssh/remote-file-writer.js';
import {
  allInOrder,
  type Callback,
  call,
  ignoreMissing,
  isMissing,
  piece,
  ReadAhead,
  readPart,
  toSftpError,
} from '../ssh/requests.js';
import type { SshSession } from '../ssh/session.js';
import { endExchange } from './exchange.js';
import type { FilesEnd } from './files-end.js';
import { listTree } from './listings.js';
import { sumsByReading } from './sums.js';

/** A folder at a host that speaks SFTP. */
export class SftpFiles implements FilesEnd {
  readonly place: string;
  readonly far = true;
  readonly makesLinks = true;
  readonly atOnce = 64;
  /** Each has a window of its own, which a long line needs. */
  readonly streams = 3;
  readonly namesAreBytes = false;
  readonly canResume = true;
  private readonly session: SshSession;
  private readonly root: string;
  private readonly commands: FarCommands;
  /** The listing that is under way, as long as it is. */
  private finding: ReturnType<FarCommands['find']> | undefined;

  /** @param root its absolute path at the far side */
  constructor(session: SshSession, place: string, root: string) {
    this.session = session;
    this.place = place;
    this.root = root;
    this.commands = new FarCommands(session, root);
  }

  takesName(path: ByteString): boolean {
    return bytesOfText(textOf(path)) === path;
  }

  runsCommands(): Promise<boolean> {
    return this.session.has('sh');
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

  async *list(
    skip: (entry: FileEntry) => boolean,
    signal: AbortSignal,
    untaken?: (entry: ListedEntry) => void,
  ): AsyncIterable<FileEntry> {
    const finding = this.commands.find();
    this.finding = finding;
    const found = await finding.finally(() => {
      this.finding = undefined;
    });
    const listed = async function* (folder: ByteString) {
      yield found?.get(folder) ?? [];
    };
    yield* listTree(found ? listed : folder => this.entriesIn(folder), skip, signal, untaken);
  }

  async entry(path: ByteString): Promise<FileEntry | undefined> {
    const far = this.at(path);
    try {
      const stats = await this.ask<Stats>(`Looking at ${this.show(path)}`, (sftp, done) =>
        sftp.lstat(far, done),
      );
      const entry = entryOf(path, stats);
      if (!isTakable(entry)) return undefined;
      return entry.type === 'link' ? { ...entry, to: await this.targetOf(path) } : entry;
    } catch (error) {
      if (isMissing(error)) return undefined;
      throw error;
    }
  }

  async entriesAt(paths: readonly ByteString[]): Promise<readonly (FileEntry | undefined)[]> {
    const asked = Promise.all(paths.map(path => this.entry(path)));
    // A listing that is under way may know them sooner, since a channel for files takes longer to open.
    asked.catch(() => {});
    const listed = this.finding?.then(found => (found && entriesAmong(found, paths)) ?? asked);
    return listed ? Promise.any([listed, asked]).catch(() => asked) : asked;
  }

  async *read(path: ByteString, from = 0): AsyncIterable<Buffer> {
    const far = this.at(path);
    const doing = `Reading ${this.show(path)}`;
    let offset = from;
    let open: { sftp: SFTPWrapper; handle: Buffer; ahead: ReadAhead } | undefined;
    try {
      for (;;) {
        const chunks = await this.session.files(async sftp => {
          // After a lost connection it continues behind what was passed on.
          if (open?.sftp !== sftp) {
            const handle = await call<Buffer>(done => sftp.open(far, 'r', done));
            open = { sftp, handle, ahead: new ReadAhead(sftp, handle, offset) };
          }
          return open.ahead.next();
        });
        if (!chunks) return;
        for (const chunk of chunks) {
          offset += chunk.length;
          yield chunk;
        }
      }
    } catch (error) {
      throw toSftpError(error, doing);
    } finally {
      open?.sftp.close(open.handle, () => {});
    }
  }

  async checksums(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<ReadonlyMap<ByteString, string>> {
    const sums = await this.commands.sums(paths);
    // What no command reported is read back.
    const rest = paths.filter(path => !sums.has(path));
    const read = await sumsByReading(rest, this.atOnce, signal, async path =>
      (await this.entry(path))?.type === 'file' ? this.read(path) : undefined,
    );
    return new Map([...sums, ...read]);
  }

  beginStreams(most: number): () => void {
    return this.commands.beginTar(Math.min(most, this.streams));
  }

  readMany(paths: readonly ByteString[], signal: AbortSignal): ReturnType<NonNullable<FilesEnd['readMany']>> {
    return this.commands.tar(paths, signal);
  }

  writeMany(files: AsyncIterable<FileToWrite>, signal: AbortSignal): Promise<boolean> {
    return this.commands.untar(files, `Unpacking at ${this.place}`, signal);
  }

  async write(
    path: ByteString,
    content: Content,
    like?: Pick<FileEntry, 'mode' | 'mtime'>,
    from = 0,
  ): Promise<void> {
    const far = this.at(path);
    const doing = `Writing ${this.show(path)}`;
    const writing = new RemoteFileWriter(far, like, from);
    try {
      for await (const chunk of chunksOf(content)) {
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
      throw toSftpError(error, doing);
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
      if ((await this.entry(path))?.type !== 'folder') throw toSftpError(error, doing);
    }
    await this.ask<void>(doing, (sftp, done) => sftp.chmod(far, mode | 0o700, done));
  }

  async makeLink(path: ByteString, to: ByteString): Promise<void> {
    const far = this.at(path);
    await this.remove(path);
    await this.ask<void>(`Creating the link ${this.show(path)}`, (sftp, done) =>
      sftp.symlink(textOf(to), far, done),
    );
  }

  async finishFolder(path: ByteString, { mode, mtime }: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void> {
    const far = this.at(path);
    const seconds = Math.floor(mtime / 1000);
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
    if ((await this.runsCommands()) && (await this.commands.removeTree(path))) return;
    const inside: ListedEntry[] = [];
    for await (const one of this.listBelow(path)) if (one.type !== 'elsewhere') inside.push(one);
    await pMap(
      inside.filter(one => one.type !== 'folder'),
      one => this.ask<void>(doing, (sftp, done) => sftp.unlink(this.at(one.path), done)).catch(ignoreMissing),
      { concurrency: this.atOnce },
    );
    const folders = [path, ...inside.filter(({ type }) => type === 'folder').map(one => one.path)];
    // The deepest first: a folder goes when nothing is in it any more.
    for (const level of byDepth(folders, one => one).reverse())
      await pMap(
        level,
        one => this.ask<void>(doing, (sftp, done) => sftp.rmdir(this.at(one), done)).catch(ignoreMissing),
        { concurrency: this.atOnce },
      );
  }

  async rename(from: ByteString, to: ByteString): Promise<void> {
    const [before, after] = [this.at(from), this.at(to)];
    const doing = `Renaming ${this.show(from)} to ${this.show(to)}`;
    try {
      await this.session.files(sftp => call<void>(done => sftp.rename(before, after, done)));
    } catch (error) {
      // Done already, before a link was lost: the far side has it under its new name.
      if (isMissing(error) && !(await this.entry(from)) && (await this.entry(to))) return;
      throw toSftpError(error, doing);
    }
  }

  async exchange(from: ByteString, to: ByteString, aside: ByteString): Promise<void> {
    try {
      await this.session.files(async sftp => {
        const rename = (before: ByteString, after: ByteString) =>
          call<void>(done => sftp.rename(this.at(before), this.at(after), done));
        // Both are on their way before the first is answered; the server does them in this order, and renames nothing
        // to a name that is taken.
        await allInOrder(rename(to, aside), rename(from, to));
      });
    } catch (error) {
      const doing = `Renaming ${this.show(from)} to ${this.show(to)}`;
      await endExchange(this, { from, to, aside }, toSftpError(error, doing));
    }
  }

  async replace(from: ByteString, to: ByteString): Promise<void> {
    const [before, after] = [this.at(from), this.at(to)];
    try {
      // The protocol's own renaming refuses to write over a file; this extension of a common server does.
      await this.session.files(sftp =>
        call<void>(done => sftp.ext_openssh_rename(before, after, done as never)),
      );
    } catch {
      if ((await this.entry(from)) === undefined && (await this.entry(to))) return;
      try {
        await this.session.files(sftp =>
          allInOrder(
            call<void>(done => sftp.unlink(after, done)),
            call<void>(done => sftp.rename(before, after, done)),
          ),
        );
      } catch (error) {
        if (await this.entry(from))
          throw toSftpError(error, `Renaming ${this.show(from)} to ${this.show(to)}`);
      }
    }
  }

  private async *listBelow(folder: ByteString): AsyncIterable<ListedEntry> {
    for await (const entries of this.entriesIn(folder)) {
      for (const entry of entries) {
        yield entry;
        if (entry.type === 'folder') yield* this.listBelow(entry.path);
      }
    }
  }

  /** What a folder holds, as it comes; after a lost connection, some of it twice. */
  private async *entriesIn(folder: ByteString): AsyncIterable<readonly ListedEntry[]> {
    const far = folder === '' ? this.root : this.at(folder);
    let open: { sftp: SFTPWrapper; handle: Buffer } | undefined;
    try {
      for (let ended = false; !ended; ) {
        const parts = await this.session.files(async sftp => {
          if (open?.sftp !== sftp)
            open = { sftp, handle: await call<Buffer>(done => sftp.opendir(far, done)) };
          // Most folders end with the first.
          return Promise.all([readPart(sftp, open.handle), readPart(sftp, open.handle)]);
        });
        ended = parts.includes(undefined);
        const entries = parts.flatMap(part => part ?? []).flatMap(found => entryIn(folder, found) ?? []);
        if (entries.length > 0) yield await this.withTargets(entries);
      }
    } catch (error) {
      // Somebody may have taken it away since it was seen.
      if (folder === '' || !isMissing(error)) throw toSftpError(error, `Listing ${far}`);
    } finally {
      open?.sftp.close(open.handle, () => {});
    }
  }

  /** Entries with the targets of links, without links that were removed since they were seen. */
  private async withTargets(entries: readonly ListedEntry[]): Promise<readonly ListedEntry[]> {
    const links = entries.filter(({ type }) => type === 'link');
    if (links.length === 0) return entries;
    const targets = new Map<ByteString, ByteString>();
    await pMap(
      links,
      async ({ path }) => {
        const to = await this.targetOf(path).catch(ignoreMissing);
        if (to !== undefined) targets.set(path, to);
      },
      { concurrency: this.atOnce },
    );
    return entries
      .filter(({ type, path }) => type !== 'link' || targets.has(path))
      .map(entry => (entry.type === 'link' ? { ...entry, to: targets.get(entry.path) } : entry));
  }

  private async targetOf(path: ByteString): Promise<ByteString> {
    const to = await this.ask<string>(`Reading the link ${this.show(path)}`, (sftp, done) =>
      sftp.readlink(this.at(path), done),
    );
    return bytesOfText(to);
  }

  private async makeAbove(path: ByteString): Promise<void> {
    const above = folderOf(path);
    if (above !== '') {
      await this.makeFolder(above, 0o755);
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
        throw isMissing(error) || doing === '' ? error : toSftpError(error, doing);
      });
  }

  private at(path: ByteString): string {
    if (!staysInside(path)) {
      throw new DamageError({
        doing: `Looking in ${this.place}`,
        cause: `the path ${JSON.stringify(textOf(path))} leads out of it`,
        remedy: 'Do not use what gave this path; take it again',
      });
    }
    return `${this.root === '/' ? '' : this.root}/${textOf(path)}`;
  }

  private show(path: ByteString): string {
    return `${this.place}/${textOf(path)}`;
  }
}

/** What was found in a folder. A server may list anything; only plain names below it are taken. */
function entryIn(folder: ByteString, { filename, attrs }: FileEntryWithStats): ListedEntry | undefined {
  if (filename === '.' || filename === '..') return undefined;
  const name = bytesOfText(filename);
  if (!isName(name)) return elsewhere(name);
  return entryOf(asBytes(folder === '' ? name : `${folder}/${name}`), attrs as Stats);
}

/** The entries at some paths in a listing by folder; undefined where a link leads to some of them. */
function entriesAmong(
  found: ReadonlyMap<ByteString, readonly ListedEntry[]>,
  paths: readonly ByteString[],
): (FileEntry | undefined)[] | undefined {
  const at = (path: ByteString) => found.get(folderOf(path))?.find(entry => entry.path === path);
  const isBehindLink = (path: ByteString): boolean =>
    path !== '' && (at(path)?.type === 'link' || isBehindLink(folderOf(path)));
  return paths.some(path => isBehindLink(folderOf(path)))
    ? undefined
    : paths.map(at).map(entry => (isTakable(entry) ? entry : undefined));
}

/** What is at a path, by its attributes; the target of a link is reported by another request. */
function entryOf(path: ByteString, { mode, size, mtime }: Stats): ListedEntry {
  const kind = mode & 0o170000;
  const type =
    kind === 0o100000 ? 'file' : kind === 0o040000 ? 'folder' : kind === 0o120000 ? 'link' : 'special';
  return { path, type, size: type === 'file' ? size : 0, mode: mode & 0o7777, mtime: mtime * 1000 };
}
