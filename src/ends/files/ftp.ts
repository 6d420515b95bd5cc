import { PassThrough, Readable } from 'node:stream';
import { setTimeout } from 'node:timers/promises';
import type { FileInfo } from 'basic-ftp';
import pMap from 'p-map';
import { asBytes, type ByteString, textOf } from '../../core/bytes.js';
import { DamageError, UsageError } from '../../core/errors.js';
import {
  elsewhere,
  type FileEntry,
  folderOf,
  isName,
  isTakable,
  type ListedEntry,
  staysInside,
} from '../../core/files/entries.js';
import { timeOfListing } from '../../core/files/listing-time.js';
import type { BackOff } from '../back-off.js';
import { ConnectionLost } from '../connection-lost.js';
import { type Content, chunksOf } from '../content.js';
import type { Client } from '../ftp/client.js';
import { isFtpError, throwUnlessRefused } from '../ftp/refusal.js';
import type { FtpSession } from '../ftp/session.js';
import { isFull, toPorterError } from '../system-errors.js';
import { copyFile, endExchange } from './exchange.js';
import type { FilesEnd } from './files-end.js';
import { listTree } from './listings.js';
import { sumsByReading } from './sums.js';

/** A file up to this size is copied so that its place is never empty. */
const copiedBytes = 1 << 20;

/** A folder at a host that speaks FTP (RFC 959, RFC 3659). Names are held as the bytes that the server gives. */
export class FtpFiles implements FilesEnd {
  readonly place: string;
  readonly far = true;
  readonly makesLinks = false;
  readonly namesAreBytes = true;
  readonly streams = 1;
  private readonly session: FtpSession;
  private readonly root: string;
  /** Folders that are there, as far as this end has made them. */
  private readonly made = new Set<string>();
  /** Grows while one writing after the other ends with a lost connection. */
  private backOff: BackOff | undefined;

  /** @param root its absolute path at the far side */
  constructor(session: FtpSession, place: string, root: string) {
    this.session = session;
    this.place = place;
    this.root = Buffer.from(root).toString('latin1');
  }

  get atOnce(): number {
    return this.session.atOnce;
  }

  get setsTimes(): boolean {
    return this.session.times.areSet;
  }

  get canResume(): boolean {
    return this.session.appends;
  }

  async runsCommands(): Promise<boolean> {
    return false;
  }

  async room(): Promise<undefined> {
    return undefined;
  }

  /** A line end would end the command in which the name is. */
  takesName(path: ByteString): boolean {
    return !/[\r\n\0]/.test(path);
  }

  async isThere(): Promise<boolean> {
    try {
      // A listing of what is not there is empty at some servers; only changing into it shows.
      await this.session.do(client => client.cd(this.root));
      return true;
    } catch (error) {
      if (isMissing(error)) return false;
      throw toFtpError(error, `Looking at ${this.place}`);
    }
  }

  list(
    skip: (entry: FileEntry) => boolean,
    signal: AbortSignal,
    untaken?: (entry: ListedEntry) => void,
  ): AsyncIterable<FileEntry> {
    return listTree(folder => this.listed(folder), skip, signal, untaken);
  }

  async entry(path: ByteString): Promise<FileEntry | undefined> {
    return (await this.entriesAt([path]))[0];
  }

  async entriesAt(paths: readonly ByteString[]): Promise<readonly (FileEntry | undefined)[]> {
    const there = await this.entriesBeside(paths);
    return paths.map(path => there.get(path));
  }

  async *read(path: ByteString, from = 0): AsyncIterable<Buffer> {
    const far = this.at(path);
    let offset = from;
    const backOff = this.session.backOff();
    for (;;) {
      const through = new PassThrough({ highWaterMark: 1 << 20 });
      const done = this.session
        .once(client => client.downloadTo(through, far, offset))
        .then(
          () => undefined,
          error => {
            through.destroy();
            return error as Error;
          },
        );
      try {
        for await (const chunk of through as AsyncIterable<Buffer>) {
          offset += chunk.length;
          yield chunk;
        }
      } catch {
        // What went wrong is reported by the transfer itself.
      }
      const error = await done;
      if (!error) return;
      // After a lost connection it resumes behind the last byte that was passed on.
      if (!(error instanceof ConnectionLost)) throw toFtpError(error, `Reading ${this.show(path)}`);
      await backOff.wait(this.session.report, error);
    }
  }

  async checksums(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<ReadonlyMap<ByteString, string>> {
    const there = await this.entriesBeside(paths, signal);
    return sumsByReading(paths, this.atOnce, signal, async path =>
      there.get(path)?.type === 'file' ? this.read(path) : undefined,
    );
  }

  /** @throws ConnectionLost when the connection was lost meanwhile and waited for; the content must then be given again */
  async write(
    path: ByteString,
    content: Content,
    like?: Pick<FileEntry, 'mode' | 'mtime'>,
    from = 0,
  ): Promise<void> {
    const far = this.at(path);
    const source = Readable.from(notTooSoon(content), { objectMode: false });
    try {
      // An upload into a folder that is not there may look like a lost connection: the data connection ends first.
      if (from === 0) await this.requireFolder(far.slice(0, far.lastIndexOf('/')));
      await this.session.once(async client => {
        if (from > 0) await client.appendFrom(source, far);
        else await client.uploadFrom(source, far);
        await this.setLike(client, far, like ?? { mode: 0o644 });
      });
      this.backOff = undefined;
    } catch (error) {
      if (from > 0 && this.session.appends && !isFull(error)) {
        // ProFTPD refuses to append unless it is configured to, and may end the data connection before it says so.
        this.session.appends = false;
        throw new ConnectionLost(`${this.show(path)} cannot be resumed`, { cause: error });
      }
      if (error instanceof ConnectionLost) {
        this.backOff ??= this.session.backOff();
        await this.backOff.wait(this.session.report, error);
        throw error;
      }
      throw toFtpError(error, `Writing ${this.show(path)}`);
    } finally {
      source.destroy();
    }
  }

  async makeFolder(path: ByteString, mode: number): Promise<void> {
    const far = this.at(path);
    const setting = `SITE CHMOD ${(mode | 0o700).toString(8)}`;
    try {
      const isNew =
        !this.made.has(far) && (await this.session.do(client => madeAndSet(client, far, setting)));
      if (isNew) this.made.add(far);
      else {
        await this.requireFolder(far);
        await this.session.do(client => client.sendIgnoringError(`${setting} ${far}`));
      }
    } catch (error) {
      throw toFtpError(error, `Making the folder ${this.show(path)}`);
    }
  }

  private async requireFolder(far: string): Promise<void> {
    if (far === '' || this.made.has(far)) return;
    await this.session.do(async client => {
      // Mostly none is missing, or the last one alone.
      const refusals = await client.refusalsOf(['MKD', far], ['CWD', far]);
      if (!refusals.includes(undefined)) await client.ensureDir(far);
    });
    this.made.add(far);
  }

  async makeLink(path: ByteString): Promise<void> {
    throw new UsageError({
      doing: `Creating the link ${this.show(path)}`,
      cause: 'no link can be made over FTP',
      remedy: 'Use SFTP, or leave the link out with take.files.without',
    });
  }

  async finishFolder(path: ByteString, like: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void> {
    const far = this.at(path);
    await this.session.do(client => this.setLike(client, far, like));
  }

  async remove(path: ByteString): Promise<void> {
    this.made.clear();
    const entry = await this.entry(path);
    if (entry) await this.removeEntry(entry);
  }

  private async removeEntry(entry: ListedEntry): Promise<void> {
    const { path } = entry;
    if (entry.type === 'folder') {
      const inside = (await this.entriesIn(path)).filter(({ type }) => type !== 'elsewhere');
      const folders = inside.filter(({ type }) => type === 'folder');
      await pMap(folders, one => this.removeEntry(one), { concurrency: this.atOnce });
      const others = inside.filter(({ type }) => type !== 'folder');
      await pMap(others, one => this.removeEntry(one), { concurrency: this.atOnce });
    }
    try {
      await this.session.do(client =>
        entry.type === 'folder' ? client.removeEmptyDir(this.at(path)) : client.remove(this.at(path)),
      );
    } catch (error) {
      if (!isMissing(error)) throw toFtpError(error, `Removing ${this.show(path)}`);
    }
  }

  async rename(from: ByteString, to: ByteString): Promise<void> {
    this.made.clear();
    const [before, after] = [this.at(from), this.at(to)];
    try {
      await this.session.do(client => client.rename(before, after));
    } catch (error) {
      // Done already, before a link was lost: the far side has it under its new name.
      if (isMissing(error) && !(await this.entry(from)) && (await this.entry(to))) return;
      throw toFtpError(error, `Renaming ${this.show(from)} to ${this.show(to)}`);
    }
  }

  async exchange(from: ByteString, to: ByteString, aside: ByteString): Promise<void> {
    this.made.clear();
    const there = await this.entry(to);
    try {
      if (there?.type === 'folder') {
        const [before, after, away] = [this.at(from), this.at(to), this.at(aside)];
        // A folder is never renamed to the name of one that is not empty, so the second need not wait for the first.
        await this.session.do(client =>
          client.sendTogether(['RNFR', after], ['RNTO', away], ['RNFR', before], ['RNTO', after]),
        );
      } else if (there?.type === 'file' && there.size <= copiedBytes) {
        await copyFile(this, there, aside);
        await this.replace(from, to);
      } else {
        await this.rename(to, aside);
        await this.rename(from, to);
      }
    } catch (error) {
      const doing = `Renaming ${this.show(from)} to ${this.show(to)}`;
      await endExchange(this, { from, to, aside }, toFtpError(error, doing));
    }
  }

  async replace(from: ByteString, to: ByteString): Promise<void> {
    const [before, after] = [this.at(from), this.at(to)];
    try {
      await this.session.do(client => client.rename(before, after));
    } catch {
      // Some servers rename over what is there, others refuse to.
      if (!(await this.entry(from)) && (await this.entry(to))) return;
      try {
        await this.session.do(client =>
          client.sendTogether(['DELE', after], ['RNFR', before], ['RNTO', after]),
        );
      } catch (error) {
        if (await this.entry(from))
          throw toFtpError(error, `Renaming ${this.show(from)} to ${this.show(to)}`);
      }
    }
  }

  /** Mode and time, where the server has a command for them. */
  private async setLike(
    client: Client,
    far: string,
    { mode, mtime }: Pick<FileEntry, 'mode'> & Partial<Pick<FileEntry, 'mtime'>>,
  ): Promise<void> {
    const { times } = this.session;
    const setting = `SITE CHMOD ${mode.toString(8)} ${far}`;
    if (mtime === undefined) return void (await client.sendIgnoringError(setting));
    const command = times.commandFor(far, mtime);
    if (command === undefined) {
      await client.sendIgnoringError(setting);
      await times.set(client, far, mtime);
    } else await client.sendTogether([setting], [command]).catch(throwUnlessRefused);
  }

  /** The package gives a folder's listing as a whole. */
  private async *listed(folder: ByteString): AsyncIterable<readonly ListedEntry[]> {
    // It is listed itself, but no command can name what is in it.
    if (!this.takesName(folder)) return;
    yield await this.entriesIn(folder);
  }

  /** What is in the folders of some paths, by path; each folder is listed once. */
  private async entriesBeside(
    paths: readonly ByteString[],
    signal?: AbortSignal,
  ): Promise<ReadonlyMap<ByteString, FileEntry>> {
    for (const path of paths) this.at(path);
    const there = new Map<ByteString, FileEntry>();
    const folders = [...new Set(paths.map(folderOf))];
    await pMap(
      folders,
      async folder => {
        const entries = await this.entriesIn(folder).catch(error => {
          if (error instanceof Missing) return [];
          throw error;
        });
        for (const entry of entries) if (isTakable(entry)) there.set(entry.path, entry);
      },
      { concurrency: this.atOnce, signal },
    );
    return there;
  }

  private async entriesIn(folder: ByteString): Promise<ListedEntry[]> {
    const far = folder === '' ? this.root : this.at(folder);
    let found: FileInfo[];
    try {
      found = await this.session.do(client => client.list(far));
    } catch (error) {
      throw toFtpError(error, `Listing ${this.show(folder)}`);
    }
    const entries: ListedEntry[] = [];
    for (const info of found) {
      // A server may list anything; only names below the folder are entries of it.
      if (info.name === '.' || info.name === '..') continue;
      const path = asBytes(folder === '' ? info.name : `${folder}/${info.name}`);
      entries.push(isName(info.name) ? entryOf(path, info) : elsewhere(asBytes(info.name)));
    }
    return entries;
  }

  private at(path: ByteString): string {
    if (!staysInside(path) || !this.takesName(path)) {
      throw new DamageError({
        doing: `Looking in ${this.place}`,
        cause: `the path ${JSON.stringify(textOf(path))} leads out of it, or has a line end in it`,
        remedy: 'Do not use what gave this path; take it again',
      });
    }
    return `${this.root === '/' ? '' : this.root}/${path}`;
  }

  private show(path: ByteString): string {
    return path === '' ? this.place : `${this.place}/${textOf(path)}`;
  }
}

/** Makes a folder and sets its mode. @returns false where one of the two is refused: it may be there, or the one above not */
async function madeAndSet(client: Client, far: string, setting: string): Promise<boolean> {
  try {
    await client.sendTogether(['MKD', far], [setting, far]);
    return true;
  } catch (error) {
    throwUnlessRefused(error);
    return false;
  }
}

/**
 * A content that does not end at once: ProFTPD refuses an upload over TLS that ends before it has shaken hands itself,
 * as that of an empty file may.
 */
async function* notTooSoon(content: Content): AsyncIterable<Buffer> {
  let empty = true;
  for await (const chunk of chunksOf(content)) {
    empty &&= chunk.length === 0;
    yield chunk;
  }
  if (empty) await setTimeout(250);
}

function entryOf(path: ByteString, info: FileInfo): ListedEntry {
  const type = info.isFile ? 'file' : info.isDirectory ? 'folder' : info.isSymbolicLink ? 'link' : 'special';
  const { permissions } = info;
  const mode = permissions
    ? permissions.user * 64 + permissions.group * 8 + permissions.world
    : type === 'folder'
      ? 0o755
      : 0o644;
  return {
    path,
    type,
    size: type === 'file' ? info.size : 0,
    mode,
    // Without a sure time, what was taken before cannot be distinguished from what has changed since.
    mtime: info.modifiedAt?.getTime() ?? timeOfListing(info.rawModifiedAt, Date.now()) ?? Date.now(),
    to: type === 'link' ? asBytes(info.link ?? '') : undefined,
  };
}

/** Nothing is at a path. */
class Missing extends Error {}

/** 550 says that something is not there, or may not be had; servers differ in the words. */
function isMissing(error: unknown): boolean {
  return (
    error instanceof Missing ||
    (isFtpError(error) &&
      [550, 553, 450].includes(error.code) &&
      /no such|not found|does not exist|not a directory|cannot find|can't (?:open|change|check)|failed to (?:open|change)/i.test(
        error.message,
      ))
  );
}

function toFtpError(error: unknown, doing: string): unknown {
  if (isMissing(error)) return new Missing(`${doing}: it is not there`, { cause: error });
  if (!isFtpError(error)) return toPorterError(error, doing);
  const { code, message } = error;
  const known =
    code === 552 || /quota/i.test(message)
      ? 'EDQUOT'
      : code === 452
        ? 'ENOSPC'
        : /permission|denied/i.test(message)
          ? 'EACCES'
          : `FTP${code}`;
  return toPorterError(Object.assign(new Error(message), { code: known }), doing);
}
