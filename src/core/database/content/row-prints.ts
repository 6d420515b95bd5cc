/** Bytes of one fingerprint: four numbers, two of the key and two of the row. */
export const printBytes = 16;

/**
 * Fingerprints of a table's rows, in the order in which they were added: for each a hash of its key and a hash of all of it,
 * so that two states of the table can be compared row by row in little memory. Rows are found by the hash of their key; where
 * a table has no key, that of all of it.
 */
export class RowPrints {
  rows = 0;
  private list: Uint32Array;
  /** Numbers of rows, from 1, by the hash of their key; made once rows are looked for. */
  private index: Uint32Array | undefined;

  constructor(rows = 256) {
    this.list = new Uint32Array(4 * rows);
  }

  /** Adds a row. @param key bytes by which it is known @param digest of the whole row, at least eight bytes */
  add(key: Uint8Array, digest: Buffer): void {
    this.makeRoom(1);
    const at = 4 * this.rows++;
    this.list[at] = hashOf(key, 0x9747b28c);
    this.list[at + 1] = hashOf(key, 0x5bd1e995);
    this.list[at + 2] = digest.readUInt32LE(0);
    this.list[at + 3] = digest.readUInt32LE(4);
  }

  /** Adds the fingerprints that `bytes` gave of other rows. */
  addAll(bytes: Buffer): void {
    const rows = bytes.length / printBytes;
    this.makeRoom(rows);
    Buffer.from(this.list.buffer).set(bytes, printBytes * this.rows);
    this.rows += rows;
  }

  /** Whether a row is there with this key, and whether all of it is the same. */
  find(key: Uint8Array, digest: Buffer): 'same' | 'changed' | 'missing' {
    const at = this.placeOf(hashOf(key, 0x9747b28c), hashOf(key, 0x5bd1e995));
    if (at < 0) return 'missing';
    const { list } = this;
    const same = list[at + 2] === digest.readUInt32LE(0) && list[at + 3] === digest.readUInt32LE(4);
    return same ? 'same' : 'changed';
  }

  /** The keys of rows that differ from those of another state: changed or new here; and how many are no longer here. */
  since(before: RowPrints): { readonly keys: KeySet; readonly gone: KeySet } {
    const keys = new KeySet();
    const gone = new KeySet();
    const { list } = this;
    for (let at = 0; at < 4 * this.rows; at += 4) {
      const there = before.placeOf(list[at]!, list[at + 1]!);
      if (there < 0 || before.list[there + 2] !== list[at + 2] || before.list[there + 3] !== list[at + 3])
        keys.addHash(list[at]!, list[at + 1]!);
    }
    for (let at = 0; at < 4 * before.rows; at += 4)
      if (this.placeOf(before.list[at]!, before.list[at + 1]!) < 0)
        gone.addHash(before.list[at]!, before.list[at + 1]!);
    return { keys, gone };
  }

  /** As bytes, to be kept; good until rows are added. */
  bytes(): Buffer {
    return Buffer.from(this.list.buffer, 0, printBytes * this.rows);
  }

  static of(bytes: Buffer): RowPrints {
    const prints = new RowPrints(0);
    prints.addAll(bytes.subarray(0, bytes.length - (bytes.length % printBytes)));
    return prints;
  }

  /** Forgets all rows. */
  clear(): void {
    this.rows = 0;
    this.index = undefined;
  }

  private makeRoom(rows: number): void {
    this.index = undefined;
    const needed = 4 * (this.rows + rows);
    if (needed <= this.list.length) return;
    const larger = new Uint32Array(Math.max(needed, 2 * this.list.length));
    larger.set(this.list.subarray(0, 4 * this.rows));
    this.list = larger;
  }

  /** Where in the list a row is; -1 where there is none of that key. */
  private placeOf(a: number, b: number): number {
    this.index ??= this.newIndex();
    const { index, list } = this;
    for (let slot = (a ^ b) & (index.length - 1); index[slot] !== 0; slot = (slot + 1) & (index.length - 1)) {
      const at = 4 * (index[slot]! - 1);
      if (list[at] === a && list[at + 1] === b) return at;
    }
    return -1;
  }

  private newIndex(): Uint32Array {
    let size = 1024;
    while (size < 2 * this.rows) size *= 2;
    const index = new Uint32Array(size);
    for (let row = 0; row < this.rows; row++) {
      let slot = (this.list[4 * row]! ^ this.list[4 * row + 1]!) & (size - 1);
      while (index[slot] !== 0) slot = (slot + 1) & (size - 1);
      index[slot] = row + 1;
    }
    return index;
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
