import type { ByteString } from '../bytes.js';
import type { FileEntry } from './entries.js';

// Every list of a tree is in the order of its paths' bytes: those of a crate, and what an end lists. So several of them can
// be gone through side by side, and no tree need be in memory as a whole.

/** So many entries of a list are held. */
const together = 8192;

type Lists = Readonly<Record<string, AsyncIterable<FileEntry>>>;
type EntryOf<List> = List extends AsyncIterable<infer Entry> ? Entry : never;

/** What some lists have between the same two paths, by path. */
export type Slice<Of extends Lists> = {
  readonly [Name in keyof Of]: ReadonlyMap<ByteString, EntryOf<Of[Name]>>;
};

/**
 * Goes through lists side by side, slice by slice; there is always one slice at least.
 * @param lists each in the order of its paths
 * @param most entries that a list has in a slice @param first and in the first one; those after it have twice as many each
 */
export async function* alongside<Of extends Lists>(
  lists: Of,
  most = together,
  first = most,
): AsyncIterable<Slice<Of>> {
  const all = Object.entries(lists).map(([name, list]) => ({ name, list: new Ahead(list) }));
  try {
    for (let size = first; ; size = Math.min(most, 2 * size)) {
      for (const { list } of all) await list.fill(size);
      // Up to there every list is known that has more.
      const lasts = all.flatMap(({ list }) => list.last(size));
      const cut = lasts.length > 0 ? lasts.reduce((a, b) => (b < a ? b : a)) : undefined;
      yield Object.fromEntries(all.map(({ name, list }) => [name, list.upTo(cut)])) as unknown as Slice<Of>;
      if (cut === undefined) return;
    }
  } finally {
    for (const { list } of all) await list.close();
  }
}

/** The same items; each is asked for before its turn, the first one at once. */
export function oneAhead<T>(items: AsyncIterable<T>): AsyncIterable<T> {
  const all = items[Symbol.asyncIterator]();
  const ask = () => {
    const coming = all.next();
    // Whoever waits for it hears of its error.
    coming.catch(() => {});
    return coming;
  };
  let coming = ask();
  return (async function* () {
    try {
      for (;;) {
        const { value, done } = await coming;
        if (done) return;
        coming = ask();
        yield value;
      }
    } finally {
      await all.return?.();
    }
  })();
}

/** A list of which some entries are known ahead of their turn. */
class Ahead {
  private readonly entries: AsyncIterator<FileEntry>;
  private known: FileEntry[] = [];
  private ended = false;

  constructor(list: AsyncIterable<FileEntry>) {
    this.entries = list[Symbol.asyncIterator]();
  }

  async fill(most: number): Promise<void> {
    while (!this.ended && this.known.length < most) {
      const { value, done } = await this.entries.next();
      if (done) this.ended = true;
      else this.known.push(value);
    }
  }

  /** The path of the last that is known, where there may be more; none where the list has ended. */
  last(most: number): ByteString[] {
    const last = this.known.at(-1);
    return last && !this.ended && this.known.length >= most ? [last.path] : [];
  }

  /** Takes all up to a path and with it, or all that is left. */
  upTo(path: ByteString | undefined): Map<ByteString, FileEntry> {
    const behind = path === undefined ? -1 : this.known.findIndex(entry => entry.path > path);
    const taken = this.known.splice(0, behind < 0 ? this.known.length : behind);
    return new Map(taken.map(entry => [entry.path, entry]));
  }

  async close(): Promise<void> {
    await this.entries.return?.();
  }
}
