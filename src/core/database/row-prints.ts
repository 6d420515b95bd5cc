/**
 * Fingerprints of a table's rows: for each a hash of its key and a hash of all of it, so that two states of the table can be
 * compared row by row in little memory. Rows are found by the hash of their key; where a table has no key, that of all of it.
 */
export class RowPrints {
  rows = 0;
  /** Four numbers a slot: two of the key, two of the row; a slot whose numbers are all 0 is empty. */
  private slots: Uint32Array;
  private capacity: number;

  constructor(rows = 0) {
    this.capacity = 1024;
    while (this.capacity < rows * 2) this.capacity *= 2;
    this.slots = new Uint32Array(4 * this.capacity);
  }

  /** Adds a row. @param key bytes by which it is known @param digest of the whole row, at least eight bytes */
  add(key: Uint8Array, digest: Buffer): void {
    if (2 * (this.rows + 1) > this.capacity) this.grow();
    this.put(
      hashOf(key, 0x9747b28c),
      hashOf(key, 0x5bd1e995),
      digest.readUInt32LE(0),
      digest.readUInt32LE(4) | 1,
    );
    this.rows++;
  }

  /** Whether a row is there with this key, and whether all of it is the same. */
  find(key: Uint8Array, digest: Buffer): 'same' | 'changed' | 'missing' {
    const at = this.slotOf(hashOf(key, 0x9747b28c), hashOf(key, 0x5bd1e995));
    if (at < 0) return 'missing';
    const same =
      this.slots[at + 2] === digest.readUInt32LE(0) &&
      this.slots[at + 3] === (digest.readUInt32LE(4) | 1) >>> 0;
    return same ? 'same' : 'changed';
  }

  /** Whether a key is there. */
  has(key: Uint8Array): boolean {
    return this.slotOf(hashOf(key, 0x9747b28c), hashOf(key, 0x5bd1e995)) >= 0;
  }

  /** The keys of rows that differ from those of another state: changed or new here; and how many are no longer here. */
  since(before: RowPrints): { readonly keys: KeySet; readonly gone: KeySet } {
    const keys = new KeySet();
    const gone = new KeySet();
    this.each((a, b, c, d) => {
      const at = before.slotOf(a, b);
      if (at < 0 || before.slots[at + 2] !== c || before.slots[at + 3] !== d) keys.addHash(a, b);
    });
    before.each((a, b) => {
      if (this.slotOf(a, b) < 0) gone.addHash(a, b);
    });
    return { keys, gone };
  }

  /** As bytes, to be kept. */
  bytes(): Buffer {
    const list = new Uint32Array(4 * this.rows);
    let at = 0;
    this.each((...slot) => {
      list.set(slot, at);
      at += 4;
    });
    return Buffer.from(list.buffer, 0, 4 * at);
  }

  static of(bytes: Buffer): RowPrints {
    const rows = Math.floor(bytes.length / 16);
    const prints = new RowPrints(rows);
    for (let i = 0; i < rows; i++) {
      const at = 16 * i;
      prints.put(
        bytes.readUInt32LE(at),
        bytes.readUInt32LE(at + 4),
        bytes.readUInt32LE(at + 8),
        bytes.readUInt32LE(at + 12),
      );
      prints.rows++;
    }
    return prints;
  }

  private each(take: (a: number, b: number, c: number, d: number) => void): void {
    const { slots } = this;
    for (let at = 0; at < slots.length; at += 4)
      if (slots[at + 3] !== 0) take(slots[at]!, slots[at + 1]!, slots[at + 2]!, slots[at + 3]!);
  }

  private put(a: number, b: number, c: number, d: number): void {
    const { slots, capacity } = this;
    let at = 4 * ((a ^ b) & (capacity - 1));
    while (slots[at + 3] !== 0) at = (at + 4) & (4 * capacity - 1);
    slots[at] = a;
    slots[at + 1] = b;
    slots[at + 2] = c;
    slots[at + 3] = d;
  }

  private slotOf(a: number, b: number): number {
    const { slots, capacity } = this;
    for (let at = 4 * ((a ^ b) & (capacity - 1)); slots[at + 3] !== 0; at = (at + 4) & (4 * capacity - 1))
      if (slots[at] === a && slots[at + 1] === b) return at;
    return -1;
  }

  private grow(): void {
    const before = this.slots;
    this.capacity *= 2;
    this.slots = new Uint32Array(4 * this.capacity);
    for (let at = 0; at < before.length; at += 4)
      if (before[at + 3] !== 0) this.put(before[at]!, before[at + 1]!, before[at + 2]!, before[at + 3]!);
  }
}

/** Hashes of some rows' keys. */
export class KeySet {
  private readonly hashes = new Set<string>();

  get size(): number {
    return this.hashes.size;
  }

  addHash(a: number, b: number): void {
    this.hashes.add(`${a >>> 0} ${b >>> 0}`);
  }

  add(key: Uint8Array): void {
    this.addHash(hashOf(key, 0x9747b28c), hashOf(key, 0x5bd1e995));
  }

  has(key: Uint8Array): boolean {
    return this.hashes.has(`${hashOf(key, 0x9747b28c)} ${hashOf(key, 0x5bd1e995)}`);
  }
}

/** 32 bits of bytes, by the mixing of MurmurHash3 (A. Appleby, public domain) a byte at a time. */
function hashOf(bytes: Uint8Array, seed: number): number {
  let hash = seed;
  for (let i = 0; i < bytes.length; i++) {
    hash = Math.imul(hash ^ bytes[i]!, 0xcc9e2d51);
    hash = (hash << 13) | (hash >>> 19);
  }
  hash ^= bytes.length;
  hash = Math.imul(hash ^ (hash >>> 16), 0x85ebca6b);
  hash = Math.imul(hash ^ (hash >>> 13), 0xc2b2ae35);
  return (hash ^ (hash >>> 16)) >>> 0;
}
