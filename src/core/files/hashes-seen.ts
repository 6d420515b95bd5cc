/** Remembers texts by a hash of 32 bits, in some ten bytes each. Two texts may have the same. */
export class HashesSeen {
  private table = new Uint32Array(1024);
  private count = 0;

  /** Adds a text. @returns its hash where one with the same was there before */
  addsAgain(text: string): number | undefined {
    const hash = hashOf(text);
    if (this.put(this.table, hash)) return hash;
    if (++this.count * 4 > this.table.length * 3) this.grow();
    return undefined;
  }

  private grow(): void {
    const larger = new Uint32Array(2 * this.table.length);
    for (const hash of this.table) if (hash !== 0) this.put(larger, hash);
    this.table = larger;
  }

  /** Gives whether it was there. */
  private put(table: Uint32Array, hash: number): boolean {
    const mask = table.length - 1;
    for (let at = hash & mask; ; at = (at + 1) & mask) {
      if (table[at] === hash) return true;
      if (table[at] === 0) {
        table[at] = hash;
        return false;
      }
    }
  }
}

/** FNV-1a over the text's UTF-16 units (draft-eastlake-fnv), never 0. */
export function hashOf(text: string): number {
  let hash = 0x811c9dc5;
  for (let i = 0; i < text.length; i++) hash = Math.imul(hash ^ text.charCodeAt(i), 0x01000193);
  // The low bits of FNV are its weakest.
  hash ^= hash >>> 15;
  return hash >>> 0 || 1;
}
