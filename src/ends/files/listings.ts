import { asBytes, type ByteString } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';

/** Folders that are listed at once. */
const listings = 32;
/** So many folders are listed before their turn, as long as no more than so many entries wait for it. */
const foldersAhead = 96;
const entriesAhead = 10_000;

/**
 * Everything below a place in the order of the paths' bytes, and so a folder before what is in it.
 * @param listing gives what one folder holds, by its path; empty for the place itself
 * @param skip is asked again before a folder is entered, for it may have been taken away meanwhile
 */
export async function* listTree(
  listing: (folder: ByteString) => Promise<FileEntry[]>,
  skip: (entry: FileEntry) => boolean,
  signal: AbortSignal,
): AsyncIterable<FileEntry> {
  const ahead = new Listings(listing, skip);
  const open = [new OpenFolder(await ahead.get(asBytes('')))];
  for (let inner = open.at(-1); inner; inner = open.at(-1)) {
    signal.throwIfAborted();
    const next = inner.next();
    if (!next) open.pop();
    else if (!next.enters) yield next.entry;
    else if (skip(next.entry)) ahead.forget(next.entry.path);
    else {
      ahead.expect(upcoming(open));
      open.push(new OpenFolder(await ahead.get(next.entry.path)));
    }
  }
}

/** The folders whose turn comes next, as far as they are known. */
function* upcoming(open: readonly OpenFolder[]): Iterable<ByteString> {
  for (let depth = open.length - 1; depth >= 0; depth--) {
    const { folders } = open[depth]!;
    for (let i = folders.length - 1; i >= 0; i--) yield folders[i]!.path;
  }
}

/** A folder that is gone through. What is in `a` comes after `a-b`, for so the bytes of their paths are. */
class OpenFolder {
  /** The first that come are the last. */
  private readonly entries: FileEntry[];
  readonly folders: FileEntry[];

  constructor(entries: FileEntry[]) {
    this.folders = entries
      .filter(({ type }) => type === 'folder')
      .sort((a, b) => (`${a.path}/` < `${b.path}/` ? 1 : -1));
    this.entries = entries.sort((a, b) => (a.path < b.path ? 1 : -1));
  }

  next(): { entry: FileEntry; enters: boolean } | undefined {
    const entry = this.entries.at(-1);
    const folder = this.folders.at(-1);
    if (folder && (!entry || `${folder.path}/` < entry.path))
      return { entry: this.folders.pop()!, enters: true };
    if (!entry) return undefined;
    this.entries.pop();
    return { entry, enters: false };
  }
}

/** Lists folders ahead of their turn, several at once, and those in them as soon as they are known. */
class Listings {
  private readonly under = new Map<string, Promise<FileEntry[]>>();
  private readonly waiting: (() => void)[] = [];
  private readonly listing: (folder: ByteString) => Promise<FileEntry[]>;
  private readonly skip: (entry: FileEntry) => boolean;
  private free = listings;
  /** Entries of folders whose turn has not come. */
  private held = 0;

  constructor(listing: (folder: ByteString) => Promise<FileEntry[]>, skip: (entry: FileEntry) => boolean) {
    this.listing = listing;
    this.skip = skip;
  }

  async get(folder: ByteString): Promise<FileEntry[]> {
    if (!this.under.has(folder)) this.want(folder);
    const listed = this.under.get(folder)!;
    this.under.delete(folder);
    const entries = await listed;
    this.held -= entries.length;
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
    if (this.under.has(folder)) this.get(folder).catch(() => {});
  }

  private want(folder: ByteString): void {
    const listed = this.list(folder);
    // Whoever gets it hears of its error.
    listed.catch(() => {});
    this.under.set(folder, listed);
  }

  private async list(folder: ByteString): Promise<FileEntry[]> {
    if (this.free === 0) await new Promise<void>(resolve => this.waiting.push(resolve));
    else this.free--;
    try {
      const wanted = (await this.listing(folder)).filter(entry => !this.skip(entry));
      this.held += wanted.length;
      for (const { type, path } of wanted)
        if (type === 'folder' && this.hasRoom() && !this.under.has(path)) this.want(path);
      return wanted;
    } finally {
      const next = this.waiting.shift();
      if (next) next();
      else this.free++;
    }
  }
}
