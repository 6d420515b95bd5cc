import { asBytes, type Edit, editedBuffer } from '../bytes.js';
import { mostEdits, pieceBytes, putBytes, type Workbench } from './workbench.js';

/** The layout of an edit is described in kernels/edits.ts, in numbers of four bytes. */
const numbers = 6;
const putNumber = -1;
const noAddress = -1;

/** @param address -1 for none */
export type Noted = (column: number, address: number, literals: number, times: number) => void;

/**
 * The edits of a window in rising order, those that the kernels note and those of others. They are in the memory of
 * the kernels, which carries them out; what is too much for it is kept and carried out here.
 */
export class EditList {
  private readonly bench: Workbench;
  private readonly list: Int32Array;
  private bytes: Buffer = Buffer.alloc(0);
  /** Edits that are not in the memory, once there are any; those in it come after them. */
  private others: Edit[] | undefined;
  private putsEnd = 0;
  /** How many edits are in the memory. */
  count = 0;

  constructor(bench: Workbench) {
    this.bench = bench;
    const { memory, edits } = bench;
    this.list = new Int32Array(memory.buffer, memory.byteOffset + edits, numbers * mostEdits);
  }

  /** Begins with a window. */
  begin(bytes: Buffer): void {
    this.bytes = bytes;
    this.count = 0;
    this.putsEnd = 0;
    this.others = bytes.length > pieceBytes ? [] : undefined;
  }

  /** Adds one after all others. */
  add(edit: Edit): void {
    const { put } = edit;
    if (!this.others && (this.count === mostEdits || this.putsEnd + put.length > putBytes))
      this.others = this.take();
    if (this.others) {
      // What the kernels have noted since comes before it.
      this.others.push(...this.take(), edit);
      return;
    }
    const { list, bench } = this;
    const at = numbers * this.count++;
    const putAt = bench.puts + this.putsEnd;
    list[at] = edit.start;
    list[at + 1] = edit.end;
    list[at + 2] = putAt;
    list[at + 3] = put.length;
    list[at + 5] = noAddress;
    // A call into the engine costs more than writing some bytes one by one.
    if (put.length > 40) bench.memory.write(put, putAt, 'latin1');
    else for (let i = 0; i < put.length; i++) bench.memory[putAt + i] = put.charCodeAt(i);
    this.putsEnd += put.length;
  }

  /**
   * Reports what the kernels noted from an edit on: the column, the pair and form of an address, and how many literals were
   * changed and how many such addresses were in them, one after the other.
   */
  replay(from: number, take: Noted): void {
    const { list } = this;
    let column = -1;
    let address = noAddress;
    let literals = 0;
    let times = 0;
    for (let i = from, at = numbers * from; i < this.count; i++, at += numbers) {
      const inColumn = list[at + 4]! & 0xffff;
      const next = list[at + 5]!;
      // A length is not counted.
      if (inColumn !== column || (next !== address && next !== noAddress && address !== noAddress)) {
        if (column >= 0) take(column, address, literals, times);
        column = inColumn;
        address = noAddress;
        literals = 0;
        times = 0;
      }
      if (list[at + 4]! >= 0x10000) literals++;
      if (next === noAddress) continue;
      address = next;
      times++;
    }
    if (column >= 0) take(column, address, literals, times);
  }

  /**
   * The first bytes of the window with all edits carried out; good until the next window.
   * @param place where in the memory they are put, if they have room there
   */
  applied(end: number, place?: Buffer): Buffer {
    const { bench, bytes } = this;
    if (!this.others) {
      if (this.count === 0) return bytes.subarray(0, end);
      bench.load(bytes, 0);
      for (const to of place && place.length > end ? [place, bench.spliced] : [bench.spliced]) {
        const at = to.byteOffset - bench.memory.byteOffset;
        const size = bench.kernels.splice(bench.piece, end, bench.edits, this.count, at, to.length);
        if (size >= 0) return to.subarray(0, size);
      }
    }
    return editedBuffer(bytes, end, [...(this.others ?? []), ...this.take()]);
  }

  /** All edits that are in the memory, which are no longer there then. */
  private take(): Edit[] {
    const { list, bench } = this;
    const edits = Array.from({ length: this.count }, (_, i): Edit => {
      const [start, end, put, size] = list.subarray(numbers * i) as unknown as [
        number,
        number,
        number,
        number,
      ];
      const text = size === putNumber ? String(put) : bench.memory.toString('latin1', put, put + size);
      return { start, end, put: asBytes(text) };
    });
    this.count = 0;
    return edits;
  }
}
