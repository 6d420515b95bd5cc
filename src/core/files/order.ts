import type { ByteString } from '../bytes.js';
import type { FileEntry } from './entries.js';

// Every list of a tree is in the order of its paths' bytes: those of a crate, and what an end lists. So several of them can
// be gone through side by side, and no tree need be in memory as a whole.

/** So many entries of a list are held. */
export const together = 8192;

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

/** The same items; up to `most` are asked for before their turn, the first one at once. */
export function ahead<T>(items: AsyncIterable<T>, most = 1): AsyncIterable<T> {
  const all = items[Symbol.asyncIterator]();
  const held: T[] = [];
  let isWanted = true;
  let isAtEnd = false;
  // Never do both wait at once, who asks for items and who takes them.
  let goOn = () => {};
  const change = () =>
    new Promise<void>(resolve => {
      goOn = resolve;
    });
  const asking = (async () => {
    try {
      while (isWanted) {
        if (held.length >= most) {
          await change();
          continue;
        }
        const { value, done } = await all.next();
        if (done) return;
        held.push(value);
        goOn();
      }
    } finally {
      isAtEnd = true;
      goOn();
    }
  })();
  // Whoever takes the last item hears of its error.
  asking.catch(() => {});
  return (async function* () {
    try {
      for (;;) {
        if (held.length > 0) {
          const next = held.shift()!;
          goOn();
          yield next;
        } else if (isAtEnd) {
          await asking;
          return;
        } else await change();
      }
    } finally {
      isWanted = false;
      goOn();
      await asking.catch(() => {});
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
