import type { Writing } from './column.js';

/** A row as the server gives it: the bytes of each cell, or null for NULL. */
export type Cells = readonly (Buffer | null)[];

/** So long may a statement be, in bytes, unless one row alone is longer: short enough for every server's limit. */
const longest = 512 * 1024;
/** Bytes that are passed on together: packing them takes longer than other work may keep it waiting. */
const chunkBytes = 3 * 1024 * 1024;

/** The second byte of an escape, by the byte that it stands for; 0 for what needs none. */
const escapes = new Uint8Array(256);
for (const [byte, letter] of [
  [0x00, '0'],
  [0x0a, 'n'],
  [0x0d, 'r'],
  [0x1a, 'Z'],
  [0x27, "'"],
  [0x5c, '\\'],
] as const)
  escapes[byte] = letter.charCodeAt(0);

/** Writes rows as INSERT statements of many rows each, in chunks of some megabytes. */
export class InsertWriter {
  rows = 0;
  private readonly head: string;
  private readonly writings: readonly Writing[];
  private readonly emit: (chunk: Buffer) => void;
  private buffer = Buffer.allocUnsafeSlow(chunkBytes);
  private at = 0;
  /** Bytes of the statement that is being written; 0 between statements. */
  private statement = 0;

  /** @param head all of a statement that comes before its rows */
  constructor(head: string, writings: readonly Writing[], emit: (chunk: Buffer) => void) {
    this.head = head;
    this.writings = writings;
    this.emit = emit;
  }

  row(cells: Cells): void {
    let need = 3 * this.head.length + 16;
    for (const cell of cells) need += cell === null ? 5 : 2 * cell.length + 80;
    this.makeRoom(need);
    const from = this.at;
    if (this.statement > 0 && this.statement + need > longest) this.endStatement();
    this.put(this.statement === 0 ? `${this.head}\n(` : ',\n(');
    for (let i = 0; i < cells.length; i++) {
      if (i > 0) this.buffer[this.at++] = 0x2c;
      this.cell(cells[i]!, this.writings[i]!);
    }
    this.buffer[this.at++] = 0x29;
    this.statement += this.at - from;
    this.rows++;
  }

  /** Ends the last statement and passes on what is left. */
  finish(): void {
    this.makeRoom(8);
    if (this.statement > 0) this.endStatement();
    this.flush();
  }

  private cell(cell: Buffer | null, writing: Writing): void {
    if (cell === null) {
      this.put('NULL');
      return;
    }
    if (writing === 'number') {
      this.at += cell.copy(this.buffer, this.at);
      return;
    }
    if (writing === 'bits') {
      this.put(`b'${[...cell].map(byte => byte.toString(2).padStart(8, '0')).join('')}'`);
      return;
    }
    if (writing === 'bytes') this.put('_binary ');
    const { buffer } = this;
    const size = cell.length;
    let at = this.at;
    buffer[at++] = 0x27;
    for (let i = 0; i < size; i++) {
      const byte = cell[i]!;
      const letter = escapes[byte]!;
      if (letter === 0) buffer[at++] = byte;
      else {
        buffer[at++] = 0x5c;
        buffer[at++] = letter;
      }
    }
    buffer[at++] = 0x27;
    this.at = at;
  }

  private put(bytes: string): void {
    this.at += this.buffer.write(bytes, this.at, 'latin1');
  }

  private endStatement(): void {
    this.put(';\n');
    this.statement = 0;
  }

  private makeRoom(bytes: number): void {
    if (this.at + bytes <= this.buffer.length) return;
    this.flush();
    if (bytes > this.buffer.length) this.buffer = Buffer.allocUnsafeSlow(bytes);
  }

  private flush(): void {
    if (this.at === 0) return;
    this.emit(this.buffer.subarray(0, this.at));
    this.buffer = Buffer.allocUnsafeSlow(chunkBytes);
    this.at = 0;
  }
}
