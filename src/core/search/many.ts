/** In place of two bytes where the shortest pattern is of one. */
const anyPair = -1;

/**
 * Finds the first of several byte patterns, after S. Wu and U. Manber, "A fast algorithm for multi-pattern searching"
 * (University of Arizona, TR-94-17): the last two bytes of the stretch that is looked at say how far one may jump.
 */
export class ManySearch {
  /** The pattern that `next` found last; an index of those given. */
  pattern = -1;
  private readonly patterns: readonly Uint8Array[];
  /** Bytes of the shortest pattern: no jump is longer. */
  private readonly length: number;
  /** By two bytes: how far to jump; 0 where a pattern may stand. */
  private readonly jumps: Uint8Array;
  /** By two bytes: the patterns whose first `length` bytes end in them, the longest first. */
  private readonly ending = new Map<number, number[]>();
  private readonly fold: Uint8Array;

  /**
   * @param patterns of one byte or more, one a character
   * @param anyCase whether letters A to Z are found in either case
   */
  constructor(patterns: readonly string[], anyCase: boolean) {
    this.fold = new Uint8Array(256).map((_, byte) =>
      anyCase && byte >= 0x41 && byte <= 0x5a ? byte + 32 : byte,
    );
    this.patterns = patterns.map(text => Uint8Array.from(text, char => this.fold[char.charCodeAt(0)]!));
    this.length = Math.min(255, ...patterns.map(text => text.length));
    this.jumps = new Uint8Array(65536).fill(this.length - 1);
    for (const [index, pattern] of this.patterns.entries()) {
      if (this.length === 1) this.ending.set(anyPair, [...(this.ending.get(anyPair) ?? []), index]);
      for (let end = 2; end <= this.length; end++) {
        for (const pair of this.pairs(pattern[end - 2]!, pattern[end - 1]!)) {
          this.jumps[pair] = Math.min(this.jumps[pair]!, this.length - end);
          if (end === this.length) this.ending.set(pair, [...(this.ending.get(pair) ?? []), index]);
        }
      }
    }
    for (const list of this.ending.values())
      list.sort((a, b) => this.patterns[b]!.length - this.patterns[a]!.length);
  }

  /** The offset of the first pattern at or after `from`, the longest of those at one place; Infinity for none. */
  next(bytes: Uint8Array, from: number): number {
    const { jumps, length } = this;
    const size = bytes.length;
    let last = from + length - 1;
    while (last < size) {
      const jump = jumps[(bytes[last - 1]! << 8) | bytes[last]!]!;
      if (jump > 0) {
        last += jump;
        continue;
      }
      const at = last - length + 1;
      this.pattern = this.standingAt(bytes, at, last);
      if (this.pattern >= 0) return at;
      last++;
    }
    return Number.POSITIVE_INFINITY;
  }

  private standingAt(bytes: Uint8Array, at: number, last: number): number {
    const { fold } = this;
    const pair = this.length === 1 ? anyPair : (bytes[last - 1]! << 8) | bytes[last]!;
    for (const index of this.ending.get(pair) ?? []) {
      const pattern = this.patterns[index]!;
      if (at + pattern.length > bytes.length) continue;
      let same = 0;
      while (same < pattern.length && fold[bytes[at + same]!] === pattern[same]) same++;
      if (same === pattern.length) return index;
    }
    return -1;
  }

  /** The bytes of a text that two folded ones stand for. */
  private pairs(first: number, second: number): number[] {
    const unfolded = (byte: number) => [...this.fold.keys()].filter(one => this.fold[one] === byte);
    return unfolded(first).flatMap(a => unfolded(second).map(b => (a << 8) | b));
  }
}
