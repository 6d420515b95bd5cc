import { asBytes, type ByteString } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';

/** Folders that are listed at once, and whose listings are kept before their turn. */
const listings = 32;
const mostAhead = 4000;

/**
 * Everything below a far place, a folder before what is in it.
 * @param listing gives what one folder holds, by its path; empty for the place itself
 */
export async function* listTree(
  listing: (folder: ByteString) => Promise<FileEntry[]>,
  skip: (entry: FileEntry) => boolean,
  signal: AbortSignal,
): AsyncIterable<FileEntry> {
  const ahead = new Listings(listing, skip);
  const folders: ByteString[] = [asBytes('')];
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

  private want(folder: ByteString): void {
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
