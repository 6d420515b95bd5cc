import type { Stretch } from '../../bytes.js';

/** One row of so many begins a new piece. A shortest length would let pieces that are shifted stay so for long. */
const oneOf = 64;
/** No piece is much longer, in bytes. */
const longest = 128 * 1024;
/** Bytes of a row's beginning by which that is decided. */
const looked = 24;

/**
 * Cuts the rows of a dump into pieces. Where a piece ends depends only on the rows around, so that after a row that is new,
 * longer or gone the pieces are soon the same again as they were.
 */
export class RowPieces {
  private readonly take: (piece: Buffer) => void;
  private buffer = Buffer.allocUnsafe(2 * longest);
  private filled = 0;
  private ends: number[] = [];
  private isInRow = false;

  /** @param take is given a piece: rows in brackets, without what is between them; good until it ends */
  constructor(take: (piece: Buffer) => void) {
    this.take = take;
  }

  /** See `DumpVisitor.row`. */
  rowEnds(at: number): void {
    this.ends.push(at);
  }

  /** See `DumpVisitor.rowBytes`. */
  push({ bytes }: Stretch, start: number, end: number): void {
    let from = start;
    for (const rowEnd of this.ends) {
      this.add(bytes, from, rowEnd);
      this.isInRow = false;
      from = rowEnd;
    }
    this.ends = [];
    if (from < end) this.add(bytes, from, end);
  }

  /** Ends the last piece. */
  finish(): void {
    if (this.filled > 0) this.take(this.buffer.subarray(0, this.filled));
    this.filled = 0;
  }

  private add(bytes: Buffer, start: number, end: number): void {
    let from = start;
    if (!this.isInRow) {
      while (from < end && isBetween(bytes[from]!)) from++;
      if (from === end) return;
      this.isInRow = true;
      if (this.filled >= longest || begins(bytes, from, end)) this.finish();
    }
    const length = end - from;
    if (this.filled + length > this.buffer.length) {
      const larger = Buffer.allocUnsafe(2 * (this.filled + length));
      this.buffer.copy(larger, 0, 0, this.filled);
      this.buffer = larger;
    }
    bytes.copy(this.buffer, this.filled, from, end);
    this.filled += length;
  }
}

/** A comma or white space. */
function isBetween(byte: number): boolean {
  return byte === 0x2c || byte <= 0x20;
}

function begins(bytes: Buffer, start: number, end: number): boolean {
  let hash = 0;
  for (let at = start; at < Math.min(end, start + looked); at++)
    hash = Math.imul(hash ^ bytes[at]!, 0x9e3779b1);
  return (hash >>> 8) % oneOf === 0;
}
