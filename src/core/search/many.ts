import type { ByteString } from '../bytes.js';
import { mostAnchors, pieceBytes, textBytes, workbench } from '../kernels/workbench.js';

/** A run of bytes to find. */
export interface BytePattern {
  readonly text: string;
  /** Whether letters A to Z are found in either case. */
  readonly anyCase: boolean;
  /** Whether it need not be found right after a letter, a digit or an underscore: it may be all the same. */
  readonly notInWord?: boolean;
}

/** The layout of a table is told in kernels/find.ts. */
const groups = 8;
const groupsAt = 64;
const resumeAt = groupsAt + 4 * (groups + 1);
const longestAt = resumeAt + 4;
const patternsAt = longestAt + 4;
const patternBytes = 20;
/** The kernel may read so far beyond a text. */
const beyond = 16;
/** So many places at least have room at a time. */
const placesAtOnce = 4096;

/** Finds many byte patterns at once. */
export class ManySearch {
  private readonly patterns: readonly BytePattern[];
  /** Bytes of the longest pattern. */
  private readonly longest: number;
  private readonly table: Buffer;
  /** A buffer whose places lie where the workbench keeps anchors. */
  private known: { readonly bytes: Uint8Array; readonly count: number } | undefined;

  /** @param patterns of one byte or more, one a character */
  constructor(patterns: readonly BytePattern[]) {
    this.patterns = patterns;
    this.longest = Math.max(0, ...patterns.map(({ text }) => text.length));
    this.table = tableOf(patterns);
    if (this.table.length + this.roomForPlaces() > workbench().end - workbench().search)
      throw new RangeError('there are too many addresses to look for at once');
  }

  /** Tells every place at which a pattern begins, in rising order, with the pattern's number. */
  each(text: ByteString | Uint8Array, take: (at: number, pattern: number) => void): void {
    const bench = workbench();
    const isString = typeof text === 'string';
    if (this.known && this.known.bytes === text && !bench.take(bench.anchors, this)) {
      this.tell(bench.anchors, this.known.count, 0, take);
      return;
    }
    this.putTable();
    const out = bench.search + this.table.length;
    const most = this.roomForPlaces() / 8;
    const step = (isString ? textBytes : pieceBytes) - this.longest;
    for (let base = 0; base < text.length; base += step) {
      const whole = (isString ? bench.loadText(text, base) : bench.load(text, base)) - base;
      const piece = isString ? bench.text : bench.piece;
      // A piece that is the last one is looked through to its end.
      const size = base + whole === text.length ? whole : step;
      for (let from = 0; from < size; ) {
        const found = bench.kernels.find(bench.search, piece + from, size - from, whole - from, out, most);
        // Whoever is told may search as well.
        const next = from + this.resume();
        this.tell(out, found, base + from, take);
        from = next;
      }
      if (base + whole === text.length) break;
    }
  }

  /**
   * Finds all places in a buffer, and leaves them where the workbench keeps anchors, until it is next asked.
   * @returns how many there are; undefined where they, or the buffer, are too many for it
   */
  leaveAnchors(bytes: Uint8Array): number | undefined {
    this.known = undefined;
    if (bytes.length > pieceBytes || this.roomForPlaces() > 8 * mostAnchors) return undefined;
    const bench = workbench();
    this.putTable();
    bench.load(bytes, 0);
    bench.take(bench.anchors, this);
    const { kernels, search, piece, anchors } = bench;
    const count = kernels.find(search, piece, bytes.length, bytes.length, anchors, mostAnchors);
    if (this.resume() < bytes.length) return undefined;
    this.known = { bytes, count };
    return count;
  }

  private tell(
    places: number,
    count: number,
    base: number,
    take: (at: number, pattern: number) => void,
  ): void {
    const { memory } = workbench();
    for (let i = 0, at = places; i < count; i++, at += 8)
      take(base + memory.readUInt32LE(at), memory.readUInt32LE(at + 4));
  }

  /** Where the last search is to go on. */
  private resume(): number {
    const { memory, search } = workbench();
    return memory.readUInt32LE(search + resumeAt);
  }

  private roomForPlaces(): number {
    return 8 * (placesAtOnce + (this.longest + 64) * this.patterns.length);
  }

  /** Puts the table in the memory, unless it is there. Addresses in it are those of the memory. */
  private putTable(): void {
    const bench = workbench();
    const { memory, search } = bench;
    if (!bench.take(search, this)) return;
    this.table.copy(memory, search);
    for (let i = 0; i < this.patterns.length; i++) {
      const at = search + patternsAt + patternBytes * i;
      memory.writeUInt32LE(memory.readUInt32LE(at) + search, at);
    }
  }
}

/** The table of patterns; where their bytes lie is told from its beginning on. */
function tableOf(patterns: readonly BytePattern[]): Buffer {
  const texts = patterns.map(({ text, anyCase }) =>
    Buffer.from(anyCase ? text.replace(/[A-Z]+/g, letters => letters.toLowerCase()) : text, 'latin1'),
  );
  const textsAt = patternsAt + patternBytes * patterns.length;
  const table = Buffer.alloc(textsAt + texts.reduce((sum, text) => sum + text.length, 0) + beyond);
  table.writeUInt32LE(Math.max(0, ...texts.map(text => text.length)), longestAt);
  const order = [...patterns.keys()].sort((a, b) => (a % groups) - (b % groups));
  let textAt = textsAt;
  for (const [slot, index] of order.entries()) {
    const text = texts[index]!;
    const { anyCase, notInWord = false } = patterns[index]!;
    const group = index % groups;
    const at = patternsAt + patternBytes * slot;
    const rare = rarestPair(text);
    table.set(text, textAt);
    table.writeUInt32LE(textAt, at);
    table.writeUInt32LE(text.length, at + 4);
    table.writeUInt32LE((anyCase ? 1 : 0) + (notInWord ? 2 : 0), at + 8);
    table.writeUInt32LE(index, at + 12);
    table.writeUInt32LE(rare, at + 16);
    textAt += text.length;
    for (let next = group + 1; next <= groups; next++) table.writeUInt32LE(slot + 1, groupsAt + 4 * next);
    markGroup(table, 0, 1 << group, text[rare], anyCase);
    markGroup(table, 32, 1 << group, text[rare + 1], anyCase);
  }
  return table;
}

/** Where the two bytes begin that are seen least in web pages: what is looked up is then seldom found in vain. */
function rarestPair(text: Buffer): number {
  let best = 0;
  let least = Number.POSITIVE_INFINITY;
  for (let at = 0; at + 1 < text.length; at++) {
    const seen = howOften(text[at]!) * howOften(text[at + 1]!);
    if (seen < least) [best, least] = [at, seen];
  }
  return best;
}

/** About how often a byte is seen in the text of web pages, in hundredths. */
function howOften(byte: number): number {
  const char = String.fromCharCode(byte);
  if (' etaoinsr'.includes(char)) return 7;
  if (/[a-z]/.test(char)) return 3;
  if ('/."=<>-'.includes(char)) return 2;
  return /[A-Z0-9]/.test(char) ? 1 : 0.5;
}

/** Notes that a pattern of a group may have a byte at a place; any byte where it is shorter. */
function markGroup(
  table: Buffer,
  at: number,
  group: number,
  byte: number | undefined,
  anyCase: boolean,
): void {
  const mark = (low: number, high: number) => {
    table[at + low]! |= group;
    table[at + 16 + high]! |= group;
  };
  if (byte === undefined) for (let half = 0; half < 16; half++) mark(half, half);
  else {
    mark(byte & 15, byte >> 4);
    if (anyCase && byte >= 0x61 && byte <= 0x7a) mark(byte & 15, (byte >> 4) - 2);
  }
}
