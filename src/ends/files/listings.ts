import { asBytes, type ByteString, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import { type FileEntry, isTakable, type ListedEntry, requirePossible } from '../../core/files/entries.js';
import { FolderEntries } from './folder-entries.js';

/** No folder of a site holds more; a host that lists more does not end. */
const mostInFolder = 5_000_000;
/** Folders that are listed at once. */
const listings = 32;
/** So many folders are listed before their turn, as long as no more than so many entries wait for it. */
const foldersAhead = 96;
const entriesAhead = 10_000;

/** What one folder holds, by its path (empty for the place itself), as it comes. */
export type Listing = (folder: ByteString) => AsyncIterable<readonly ListedEntry[]>;

/**
 * Everything below a place in the order of the paths' bytes, and so a folder before what is in it.
 * @param skip is asked again before a folder is entered, for it may have been removed meanwhile
 * @param untaken is called with what is no part of it: sockets, named pipes, devices, names that lead elsewhere
 */
export async function* listTree(
  listing: Listing,
  skip: (entry: FileEntry) => boolean,
  signal: AbortSignal,
  untaken: (entry: ListedEntry) => void = () => {},
): AsyncIterable<FileEntry> {
  const ahead = new Listings(listing, skip, untaken);
  const open: OpenFolder[] = [];
  try {
    open.push(new OpenFolder(await ahead.get(asBytes(''))));
    for (let inner = open.at(-1); inner; inner = open.at(-1)) {
      signal.throwIfAborted();
      while (inner.needsMore) await inner.more();
      const next = inner.next();
      if (!next) await open.pop()!.close();
      else if (!next.enters) yield next.entry;
      else if (skip(next.entry)) ahead.forget(next.entry.path);
      else {
        ahead.expect(upcoming(open));
        open.push(new OpenFolder(await ahead.get(next.entry.path)));
      }
    }
  } finally {
    for (const folder of open) await folder.close();
    ahead.forgetAll();
  }
}

/** The folders whose turn comes next, as far as they are known. */
function* upcoming(open: readonly OpenFolder[]): Iterable<ByteString> {
  for (let depth = open.length - 1; depth >= 0; depth--) yield* open[depth]!.foldersNext();
}

/** A folder that is gone through. What is in `a` comes after `a-b`, for so the bytes of their paths are. */
class OpenFolder {
  private readonly folder: FolderEntries;
  private readonly batches: AsyncIterator<readonly FileEntry[]>;
  private batch: readonly FileEntry[] = [];
  private at = 0;
  private isAtEnd = false;
  private last = '';
  /** Folders that came and were not entered yet; the first that is to be is the last. */
  private readonly waiting: FileEntry[] = [];
  /** So many of those in memory were passed. */
  private passed = 0;

  constructor(folder: FolderEntries) {
    this.folder = folder;
    this.batches = folder.inOrder()[Symbol.asyncIterator]();
  }

  /** Whether more is to be asked for before the next. */
  get needsMore(): boolean {
    return this.at === this.batch.length && !this.isAtEnd;
  }

  async more(): Promise<void> {
    const { value, done } = await this.batches.next();
    if (done) this.isAtEnd = true;
    this.batch = done ? [] : value;
    this.at = 0;
  }

  next(): { entry: FileEntry; enters: boolean } | undefined {
    const { waiting } = this;
    const coming = this.batch[this.at];
    const folder = waiting.at(-1);
    if (folder && (!coming || `${folder.path}/` < coming.path)) {
      waiting.pop();
      return { entry: folder, enters: true };
    }
    if (!coming) return undefined;
    this.at++;
    this.last = coming.path;
    if (coming.type === 'folder') {
      const inside = `${coming.path}/`;
      const at = waiting.findLastIndex(({ path }) => `${path}/` > inside);
      waiting.splice(at + 1, 0, coming);
    }
    return { entry: coming, enters: false };
  }

  /** Those of its folders that are known and not entered yet, as far as they are in memory. */
  *foldersNext(): Iterable<ByteString> {
    for (let i = this.waiting.length - 1; i >= 0; i--) yield this.waiting[i]!.path;
    const { near } = this.folder;
    while (this.passed < near.length && near[this.passed]!.path <= this.last) this.passed++;
    for (let i = this.passed; i < near.length; i++) if (near[i]!.type === 'folder') yield near[i]!.path;
  }

  close(): Promise<void> {
    return this.folder.forget();
  }
}

function endless(folder: ByteString): DamageError {
  return new DamageError({
    doing: `Listing the folder ${folder === '' ? 'itself' : textOf(folder)}`,
    cause: `more than ${mostInFolder.toLocaleString('en')} names come, and more`,
    remedy:
      'Look at the folder at the host; leave it out with take.files.without if the site does not need it',
  });
}

/** Lists folders ahead of their turn, several at once, and those in them as soon as they are known. */
class Listings {
  private readonly under = new Map<string, Promise<FolderEntries>>();
  private readonly waiting: (() => void)[] = [];
  private readonly listing: Listing;
  private readonly skip: (entry: FileEntry) => boolean;
  private readonly untaken: (entry: ListedEntry) => void;
  private free = listings;
  /** Entries in memory of folders whose turn has not come. */
  private held = 0;

  constructor(listing: Listing, skip: (entry: FileEntry) => boolean, untaken: (entry: ListedEntry) => void) {
    this.listing = listing;
    this.skip = skip;
    this.untaken = untaken;
  }

  async get(folder: ByteString): Promise<FolderEntries> {
    if (!this.under.has(folder)) this.want(folder);
    const listed = this.under.get(folder)!;
    this.under.delete(folder);
    const entries = await listed;
    this.held -= entries.size;
    return entries;
  }

  /** Lists what comes next before its turn. */
  expect(folders: Iterable<ByteString>): void {
    let near = 0;
    for (const folder of folders) {
      if (near++ === listings || !this.hasRoom()) return;
      if (!this.under.has(folder)) this.want(folder);
    }
  }

  private hasRoom(): boolean {
    return this.under.size < foldersAhead && this.held < entriesAhead;
  }

  /** A folder's turn has come, but nobody wants it. */
  forget(folder: ByteString): void {
    const forgotten = (listed: FolderEntries) => listed.forget();
    if (this.under.has(folder)) this.get(folder).then(forgotten, () => {});
  }

  /** Nobody wants any more. */
  forgetAll(): void {
    for (const folder of this.under.keys()) this.forget(asBytes(folder));
  }

  private want(folder: ByteString): void {
    const listed = this.list(folder);
    // Whoever gets it hears of its error.
    listed.catch(() => {});
    this.under.set(folder, listed);
  }

  private async list(folder: ByteString): Promise<FolderEntries> {
    if (this.free === 0) await new Promise<void>(resolve => this.waiting.push(resolve));
    else this.free--;
    const wanted = new FolderEntries();
    let listed = 0;
    try {
      for await (const entries of this.listing(folder)) {
        for (const entry of entries)
          if (!isTakable(entry) && !this.skip({ ...entry, type: 'file' })) this.untaken(entry);
        listed += entries.length;
        if (listed > mostInFolder) throw endless(folder);
        const some = entries.filter(isTakable).filter(entry => !this.skip(entry));
        some.forEach(requirePossible);
        await wanted.add(some);
      }
      this.held += wanted.size;
      for (const { type, path } of wanted.near)
        if (type === 'folder' && this.hasRoom() && !this.under.has(path)) this.want(path);
      return wanted;
    } catch (error) {
      await wanted.forget();
      throw error;
    } finally {
      const next = this.waiting.shift();
      if (next) next();
      else this.free++;
    }
  }
}
