import {
  chmodSync,
  closeSync,
  constants,
  type Dir,
  fchmodSync,
  fstatSync,
  futimesSync,
  lstatSync,
  mkdirSync,
  opendirSync,
  openSync,
  read,
  readFileSync,
  readlinkSync,
  renameSync,
  type Stats,
  statSync,
  writeSync,
} from 'node:fs';
import { chmod, lstat, open, rename, rm, statfs, symlink, utimes } from 'node:fs/promises';
import { resolve } from 'node:path';
import { promisify } from 'node:util';
import { asBytes, type ByteString, bytesOf, textOf } from '../../core/bytes.js';
import { DamageError, EndError } from '../../core/errors.js';
import { type FileEntry, isTakable, type ListedEntry, staysInside } from '../../core/files/entries.js';
import { type Content, chunksOf } from '../content.js';
import { toPorterError, whileDoing } from '../system-errors.js';
import { writeAllAt } from '../whole-file.js';
import type { FilesEnd } from './files-end.js';
import { listTree } from './listings.js';
import { sumsByReading } from './sums.js';

const chunkBytes = 1 << 20;
const smallBytes = 256 * 1024;
const pageBytes = 4096;
/** Checksums that are computed at once: each holds what it has read. */
const sumsAtOnce = 8;
const readAt = promisify(read);
const listedAtOnce = 1000;

/** A folder on this machine. */
export class LocalFiles implements FilesEnd {
  readonly place: string;
  readonly far = false;
  readonly makesLinks = true;
  readonly atOnce = 32;
  readonly namesAreBytes = true;
  readonly canResume = true;
  readonly streams = 1;
  private readonly root: Buffer;
  /** What comes before a path, as bytes. */
  private readonly above: string;

  private readonly ownerOnly: boolean;

  /** @param ownerOnly whether nobody but the owner may read what is written here, whatever its mode is elsewhere */
  constructor(folder: string, { ownerOnly = false } = {}) {
    this.ownerOnly = ownerOnly;
    this.place = resolve(folder);
    this.root = Buffer.from(this.place);
    this.above = `${bytesOf(this.root)}/`;
  }

  /** A mode of a file or folder; what is the owner's alone is not for its group and others. */
  private modeOf(mode: number): number {
    return this.ownerOnly ? (mode & 0o700) | 0o600 : mode;
  }

  private get folderMode(): number {
    return this.ownerOnly ? 0o700 : 0o777;
  }

  takesName(): boolean {
    return true;
  }

  async runsCommands(): Promise<boolean> {
    return true;
  }

  async room(): Promise<{ bytes: number; files: number | undefined } | undefined> {
    try {
      const { bavail, bsize, files, ffree } = await statfs(this.root);
      // A file system that makes inodes as it needs them says that it has none at all.
      return { bytes: bavail * bsize, files: files > 0 ? ffree : undefined };
    } catch {
      return undefined;
    }
  }

  async isThere(): Promise<boolean> {
    try {
      return (await lstat(this.root)).isDirectory();
    } catch {
      return false;
    }
  }

  list(
    skip: (entry: FileEntry) => boolean,
    signal: AbortSignal,
    untaken?: (entry: ListedEntry) => void,
  ): AsyncIterable<FileEntry> {
    return listTree(folder => this.entriesIn(folder), skip, signal, untaken);
  }

  async entry(path: ByteString): Promise<FileEntry | undefined> {
    const entry = this.look(path);
    return isTakable(entry) ? entry : undefined;
  }

  async *read(path: ByteString, from = 0): AsyncIterable<Buffer> {
    try {
      const file = openRegular(this.at(path));
      const small = from === 0 && readSmall(file);
      if (small) yield small;
      else yield* chunksOfFile(file, from);
    } catch (error) {
      throw toPorterError(error, `Reading ${this.show(path)}`);
    }
  }

  async checksums(
    paths: readonly ByteString[],
    signal: AbortSignal,
  ): Promise<ReadonlyMap<ByteString, string>> {
    return sumsByReading(paths, sumsAtOnce, signal, path => this.contentOf(path));
  }

  async write(
    path: ByteString,
    content: Content,
    like: Pick<FileEntry, 'mode' | 'mtime'> = { mode: 0o644, mtime: Date.now() },
    from = 0,
  ): Promise<void> {
    await whileDoing(`Writing ${this.show(path)}`, async () => {
      const at = this.at(path);
      const own = { ...like, mode: this.modeOf(like.mode) };
      try {
        await writeFile(at, content, own, from);
      } catch (error) {
        const { code } = error as NodeJS.ErrnoException;
        // A new file, never through a link or into one that is there. Checking first would cost two calls for each file.
        if (code === 'EEXIST') await rm(at, { force: true });
        else if (code === 'ENOENT') makeFolders(at.subarray(0, at.lastIndexOf('/')), this.folderMode);
        else throw error;
        await writeFile(at, content, own, from);
      }
    });
  }

  async makeFolder(path: ByteString, mode: number): Promise<void> {
    // Open to us while it is being filled, also where an earlier run had closed it.
    await whileDoing(`Making the folder ${this.show(path)}`, async () => {
      makeFolders(this.at(path), this.folderMode);
      chmodSync(this.at(path), this.modeOf(mode) | 0o700);
    });
  }

  async makeLink(path: ByteString, to: ByteString): Promise<void> {
    await whileDoing(`Creating the link ${this.show(path)}`, async () => {
      await rm(this.at(path), { force: true });
      await symlink(Buffer.from(to, 'latin1'), this.at(path));
    });
  }

  /** Sets the mode and time of a file that is there. */
  async setLike(path: ByteString, like: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void> {
    await this.finishFolder(path, like);
  }

  async finishFolder(path: ByteString, { mode, mtime }: Pick<FileEntry, 'mode' | 'mtime'>): Promise<void> {
    await whileDoing(`Setting mode and time of ${this.show(path)}`, async () => {
      await chmod(this.at(path), this.modeOf(mode));
      await utimes(this.at(path), mtime / 1000, mtime / 1000);
    });
  }

  async remove(path: ByteString): Promise<void> {
    await whileDoing(`Removing ${this.show(path)}`, () =>
      rm(this.at(path), { recursive: true, force: true }),
    );
  }

  async rename(from: ByteString, to: ByteString): Promise<void> {
    await whileDoing(`Renaming ${this.show(from)} to ${this.show(to)}`, () =>
      rename(this.at(from), this.at(to)),
    );
  }

  async exchange(from: ByteString, to: ByteString, aside: ByteString): Promise<void> {
    await whileDoing(`Renaming ${this.show(from)} to ${this.show(to)}`, async () => {
      // Nothing else runs in between.
      renameSync(this.at(to), this.at(aside));
      try {
        renameSync(this.at(from), this.at(to));
      } catch (error) {
        renameSync(this.at(aside), this.at(to));
        throw error;
      }
    });
  }

  async replace(from: ByteString, to: ByteString): Promise<void> {
    await this.rename(from, to);
  }

  private async *entriesIn(folder: ByteString): AsyncIterable<readonly ListedEntry[]> {
    const here = folder === '' ? this.root : this.at(folder);
    let entries: ListedEntry[] = [];
    for (const name of this.namesIn(here, folder !== '')) {
      const entry = this.look(asBytes(folder === '' ? name : `${folder}/${name}`));
      if (!entry || entries.push(entry) < listedAtOnce) continue;
      yield entries;
      entries = [];
    }
    if (entries.length > 0) yield entries;
  }

  /** @param mayBeGone whether somebody may have taken it away since it was seen */
  private *namesIn(here: Buffer, mayBeGone: boolean): Generator<ByteString> {
    let open: Dir | undefined;
    try {
      open = opendirSync(here, { encoding: 'buffer' as BufferEncoding, bufferSize: 256 });
      for (let one = open.readSync(); one; one = open.readSync())
        yield bytesOf(one.name as unknown as Buffer);
    } catch (error) {
      if (!mayBeGone || !isMissing(error)) throw toPorterError(error, `Listing ${textOf(bytesOf(here))}`);
    } finally {
      open?.closeSync();
    }
  }

  /** Looks at once: to come back later takes longer than the look itself. */
  private look(path: ByteString): ListedEntry | undefined {
    const at = this.at(path);
    try {
      const stats = lstatSync(at);
      const type = typeOf(stats);
      const to = type === 'link' ? bytesOf(readlinkSync(at, { encoding: 'buffer' })) : undefined;
      const size = type === 'file' ? stats.size : 0;
      return { path, type, size, mode: stats.mode & 0o7777, mtime: milliseconds(stats.mtimeMs), to };
    } catch (error) {
      if (isMissing(error)) return undefined;
      throw toPorterError(error, `Looking at ${this.show(path)}`);
    }
  }

  private async contentOf(path: ByteString): Promise<AsyncIterable<Buffer> | undefined> {
    return (await this.entry(path))?.type === 'file' ? this.read(path) : undefined;
  }

  private at(path: ByteString): Buffer {
    if (!staysInside(path)) {
      throw new DamageError({
        doing: `Looking in ${this.place}`,
        cause: `the path ${JSON.stringify(textOf(path))} leads out of it`,
        remedy: 'Do not use what gave this path; take it again',
      });
    }
    return Buffer.from(this.above + path, 'latin1');
  }

  private show(path: ByteString): string {
    return `${this.place}/${textOf(path)}`;
  }
}

function typeOf(stats: Stats): ListedEntry['type'] {
  if (stats.isFile()) return 'file';
  if (stats.isDirectory()) return 'folder';
  return stats.isSymbolicLink() ? 'link' : 'special';
}

/** A time in whole milliseconds, cut off: what was set in milliseconds may come back some nanoseconds short. */
function milliseconds(time: number): number {
  return Math.floor(time + 0.001);
}

function isMissing(error: unknown): boolean {
  return ['ENOENT', 'ENOTDIR'].includes((error as NodeJS.ErrnoException).code ?? '');
}

/** Opens a file to be read. @throws EndError for what never ends, or waits for somebody: a device, a pipe, a socket */
function openRegular(path: Buffer): number {
  const file = openSync(path, constants.O_RDONLY | constants.O_NONBLOCK);
  if (fstatSync(file).isFile()) return file;
  closeSync(file);
  throw new EndError({
    doing: `Reading ${textOf(bytesOf(path))}`,
    cause: 'it is not a regular file',
    remedy: 'Remove it from the site, or leave it out (take.files.without)',
  });
}

/** A small file's content, with which it is closed; undefined of a large one. */
function readSmall(file: number): Buffer | undefined {
  if (fstatSync(file).size > smallBytes) return undefined;
  try {
    return readFileSync(file);
  } finally {
    closeSync(file);
  }
}

/** What is in a file from a place on, which is closed then. A buffer is no larger than what is left: most files are small. */
async function* chunksOfFile(file: number, from: number): AsyncIterable<Buffer> {
  try {
    const { size } = fstatSync(file);
    for (let at = from; ; ) {
      // It may have grown meanwhile.
      const wanted = at < size ? Math.min(chunkBytes, size - at) : pageBytes;
      const { bytesRead, buffer } = await readAt(file, Buffer.allocUnsafeSlow(wanted), 0, wanted, at);
      if (bytesRead === 0) return;
      yield buffer.subarray(0, bytesRead);
      at += bytesRead;
    }
  } finally {
    closeSync(file);
  }
}

/** Writes a small file again, at once: to come back later five times takes longer than all of it. */
function writeSmall(path: Buffer, content: Buffer, mode: number, mtime: number): void {
  const file = openSync(path, 'wx', 0o600);
  try {
    for (let at = 0; at < content.length; ) at += writeSync(file, content, at, content.length - at);
    fchmodSync(file, mode);
    futimesSync(file, mtime / 1000, mtime / 1000);
  } finally {
    closeSync(file);
  }
}

/** Writes a file again, or continues with one. Nothing of the content is taken before the file is open. */
async function writeFile(
  path: Buffer,
  content: Content,
  { mode, mtime }: Pick<FileEntry, 'mode' | 'mtime'>,
  from: number,
): Promise<void> {
  if (Buffer.isBuffer(content) && content.length <= smallBytes && from === 0)
    return writeSmall(path, content, mode, mtime);
  const file = await open(path, from > 0 ? 'r+' : 'wx', 0o600);
  try {
    let at = from;
    for await (const chunk of chunksOf(content)) {
      await writeAllAt(file, chunk, at);
      at += chunk.length;
    }
    await file.chmod(mode);
    await file.utimes(mtime / 1000, mtime / 1000);
  } finally {
    await file.close();
  }
}

/** Makes a folder and those above it. (The recursive way of Node never ends below /proc.) */
function makeFolders(path: Buffer, mode: number): void {
  try {
    mkdirSync(path, { mode });
  } catch (error) {
    const above = path.subarray(0, path.lastIndexOf('/'));
    if ((error as NodeJS.ErrnoException).code === 'ENOENT' && above.length > 0) {
      makeFolders(above, mode);
      mkdirSync(path, { mode });
    } else if (!statSync(path, { throwIfNoEntry: false })?.isDirectory()) throw error;
  }
}
