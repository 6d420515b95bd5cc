import type { ByteString } from '../bytes.js';
import { aheadBytes, mostAnchors, pieceBytes, textBytes, type Workbench } from '../kernels/workbench.js';

/** A run of bytes to find. */
export interface BytePattern {
  readonly text: string;
  /** Whether letters A to Z are found in either case. */
  readonly anyCase: boolean;
  /** Whether it need not be found right after a letter, a digit or an underscore: it may be all the same. */
  readonly notInWord?: boolean;
}

/** The layout of a table is described in kernels/find.ts. */
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

/** The offsets in memory of what another thread needs to find the patterns ahead. */
export interface PlacesAhead {
  readonly table: number;
  /** Where the progress of the last search is. */
  readonly resume: number;
  /** For each block, where the places go that are found in it; as `find` gives them. */
  readonly anchors: readonly number[];
  /** So many of these have room. */
  readonly most: number;
}

/** Finds many byte patterns at once. */
export class ManySearch {
  private readonly bench: Workbench;
  private readonly patterns: readonly BytePattern[];
  /** Bytes of each pattern, and of the longest. */
  private readonly lengths: readonly number[];
  private readonly longest: number;
  private readonly table: Buffer;
  /** How many places another thread has found ahead in a block, and their offset in memory. */
  private ahead: { readonly block: Buffer; readonly places: number; readonly count: number } | undefined;
  /** A buffer whose places lie where the workbench keeps anchors. */
  private known: { readonly bytes: Uint8Array; readonly count: number } | undefined;

  /** @param patterns of one byte or more, one a character */
  constructor(bench: Workbench, patterns: readonly BytePattern[]) {
    this.bench = bench;
    this.patterns = patterns;
    this.lengths = patterns.map(({ text }) => text.length);
    this.longest = Math.max(0, ...this.lengths);
    this.table = tableOf(patterns);
    if (this.table.length + this.roomForPlaces() > bench.end - bench.search)
      throw new RangeError('there are too many addresses to look for at once');
  }

  /** Reports every place at which a pattern begins, in rising order, with the pattern's number. */
  each(text: ByteString | Uint8Array, take: (at: number, pattern: number) => void): void {
    const { bench } = this;
    const isString = typeof text === 'string';
    if (this.known && this.known.bytes === text && !bench.take(bench.anchors, this)) {
      // One that was found ahead may end after these bytes.
      this.give(bench.anchors, this.known.count, 0, (at, pattern) => {
        if (at + this.lengths[pattern]! <= text.length) take(at, pattern);
      });
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
        // The callback may search as well.
        const next = from + this.resume();
        this.give(out, found, base + from, take);
        from = next;
      }
      if (base + whole === text.length) break;
    }
  }

  /**
   * Finds all places in a buffer, and leaves them where the workbench keeps anchors, until it is next asked. Some may begin
   * in it and end after it.
   * @returns how many there are; undefined where they, or the buffer, are too many for it
   */
  leaveAnchors(bytes: Uint8Array): number | undefined {
    this.known = undefined;
    if (bytes.length > pieceBytes || this.roomForPlaces() > 8 * mostAnchors) return undefined;
    const { bench } = this;
    bench.load(bytes, 0);
    bench.take(bench.anchors, this);
    const count = this.foreseen(bytes) ?? this.findAnchors(bytes.length);
    if (count !== undefined) this.known = { bytes, count };
    return count;
  }

  private findAnchors(size: number): number | undefined {
    const { kernels, search, piece, anchors } = this.bench;
    this.putTable();
    const count = kernels.find(search, piece, size, size, anchors, mostAnchors);
    return this.resume() < size ? undefined : count;
  }

  /**
   * Puts the table where another thread may use it, to find the places in so many blocks.
   * @returns undefined where there is no room
   */
  placesAhead(blocks: number): PlacesAhead | undefined {
    const { memory, ahead } = this.bench;
    const room = Math.ceil(this.table.length / 16) * 16;
    const most = Math.floor((aheadBytes - room) / (8 * blocks));
    if (8 * most < this.roomForPlaces()) return undefined;
    this.putTableAt(memory, ahead);
    const anchors = Array.from({ length: blocks }, (_, i) => ahead + room + 8 * most * i);
    return { table: ahead, resume: ahead + resumeAt, anchors, most };
  }

  /** Reports how many places another thread found in a block that is worked on next, and where it put them. */
  foresee(block: Buffer, places: number, count: number): void {
    this.ahead = { block, places, count };
  }

  forget(): void {
    this.ahead = undefined;
  }

  /**
   * Leaves the places in bytes that end in the block of which they are known. What is before the block is looked
   * through here.
   * @returns undefined where nothing is known of them
   */
  private foreseen(bytes: Uint8Array): number | undefined {
    const { ahead } = this;
    if (!ahead || bytes.buffer !== ahead.block.buffer) return undefined;
    const from = bytes.byteOffset - ahead.block.byteOffset;
    if (from + bytes.length <= 0 || from + bytes.length > ahead.block.length) return undefined;
    const { kernels, search, piece, anchors } = this.bench;
    let before = 0;
    if (from < 0) {
      this.putTable();
      const whole = Math.min(-from + this.longest, bytes.length);
      before = kernels.find(search, piece, -from, whole, anchors, mostAnchors);
      if (this.resume() < -from) return undefined;
    }
    const { places, count } = ahead;
    const room = mostAnchors - before;
    const taken = kernels.part(places, count, from, bytes.length, anchors + 8 * before, room);
    return taken < 0 ? undefined : before + taken;
  }

  private give(
    places: number,
    count: number,
    base: number,
    take: (at: number, pattern: number) => void,
  ): void {
    const { memory } = this.bench;
    for (let i = 0, at = places; i < count; i++, at += 8)
      take(base + memory.readUInt32LE(at), memory.readUInt32LE(at + 4));
  }

  /** Where the last search is to continue. */
  private resume(): number {
    const { memory, search } = this.bench;
    return memory.readUInt32LE(search + resumeAt);
  }

  private roomForPlaces(): number {
    return 8 * (placesAtOnce + (this.longest + 64) * this.patterns.length);
  }

  /** Puts the table in the memory, unless it is there. Addresses in it are those of the memory. */
  private putTable(): void {
    const { bench } = this;
    if (bench.take(bench.search, this)) this.putTableAt(bench.memory, bench.search);
  }

  private putTableAt(memory: Buffer, place: number): void {
    this.table.copy(memory, place);
    for (let i = 0; i < this.patterns.length; i++) {
      const at = place + patternsAt + patternBytes * i;
      memory.writeUInt32LE(memory.readUInt32LE(at) + place, at);
    }
  }
}

/** The table of patterns; offsets of their bytes count from its beginning. */
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
