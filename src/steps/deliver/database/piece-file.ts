import { closeSync, openSync, writeSync } from 'node:fs';
import { mkdir, readFile, rename, rm } from 'node:fs/promises';
import { dirname } from 'node:path';
import { sumBytes } from '../../../core/database/content-digest.js';
import { digestBytes, type PieceMemory, type PiecePrints } from '../../../core/database/piece-prints.js';
import { printBytes } from '../../../core/database/row-prints.js';
import { whileDoing } from '../../../ends/system-errors.js';
import type { Move } from '../../move/open.js';

/** Of each piece there is a head: its digest, how many rows it has, and the sum of their digests; then their fingerprints. */
const headBytes = digestBytes + 4 + sumBytes;
const writtenAtOnce = 1 << 20;

/**
 * The fingerprints of a dump's rows by pieces, in a file of the move folder, so that of the next dump only those pieces are
 * opened that are other ones. It is no more than a memory: without it everything is looked at.
 */
export class PieceFile implements PieceMemory {
  private readonly file: string;
  private readonly known: ReadonlyMap<string, PiecePrints>;
  private out: number | undefined;
  private waiting: Buffer[] = [];
  private waitingBytes = 0;

  private constructor(move: Move, known: ReadonlyMap<string, PiecePrints>) {
    this.file = move.folder.at('state', 'pieces');
    this.known = known;
  }

  /** Knows nothing yet. */
  static async begin(move: Move): Promise<PieceFile> {
    return new PieceFile(move, new Map());
  }

  /** Knows what it kept the last time. */
  static async open(move: Move): Promise<PieceFile> {
    const bytes = await readFile(move.folder.at('state', 'pieces')).catch(() => Buffer.alloc(0));
    return new PieceFile(move, piecesIn(bytes));
  }

  /** Keeps what is kept while some work is done; where it fails, what was kept before stays. */
  async during(work: () => Promise<void>): Promise<void> {
    const partial = `${this.file}.partial`;
    await whileDoing(`Writing ${partial}`, async () => {
      await mkdir(dirname(partial), { recursive: true, mode: 0o700 });
      this.out = openSync(partial, 'w', 0o600);
    });
    try {
      await work();
      await whileDoing(`Writing ${partial}`, async () => this.flush());
    } catch (error) {
      await rm(partial, { force: true });
      throw error;
    } finally {
      closeSync(this.out!);
      this.out = undefined;
    }
    await whileDoing(`Writing ${this.file}`, () => rename(partial, this.file));
  }

  find(digest: Buffer): PiecePrints | undefined {
    return this.known.get(digest.toString('latin1'));
  }

  keep(digest: Buffer, { rows, sum, prints }: PiecePrints): void {
    const head = Buffer.alloc(4);
    head.writeUInt32LE(rows);
    const piece = Buffer.concat([digest, head, sum, prints]);
    this.waiting.push(piece);
    this.waitingBytes += piece.length;
    if (this.waitingBytes >= writtenAtOnce) this.flush();
  }

  private flush(): void {
    if (this.out !== undefined) writeSync(this.out, Buffer.concat(this.waiting));
    this.waiting = [];
    this.waitingBytes = 0;
  }
}

function piecesIn(bytes: Buffer): Map<string, PiecePrints> {
  const pieces = new Map<string, PiecePrints>();
  for (let at = 0; at + headBytes <= bytes.length; ) {
    const digest = bytes.toString('latin1', at, at + digestBytes);
    const rows = bytes.readUInt32LE(at + digestBytes);
    const from = at + headBytes;
    at = from + printBytes * rows;
    if (at > bytes.length) break;
    pieces.set(digest, {
      rows,
      sum: bytes.subarray(from - sumBytes, from),
      prints: bytes.subarray(from, at),
    });
  }
  return pieces;
}
