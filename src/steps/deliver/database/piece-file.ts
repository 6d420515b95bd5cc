import { closeSync, fstatSync, openSync, readSync, writeSync } from 'node:fs';
import { mkdir, rename, rm } from 'node:fs/promises';
import { dirname } from 'node:path';
import { sumBytes } from '../../../core/database/content/content-digest.js';
import {
  digestBytes,
  type PieceMemory,
  type PiecePrints,
} from '../../../core/database/content/piece-prints.js';
import { printBytes } from '../../../core/database/content/row-prints.js';
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
  /** Where a piece is in the file that was kept the last time. */
  private readonly known: ReadonlyMap<string, PlaceOfPiece>;
  private from: number | undefined;
  private out: number | undefined;
  private waiting: Buffer[] = [];
  private waitingBytes = 0;

  private constructor(file: string, known: ReadonlyMap<string, PlaceOfPiece>) {
    this.file = file;
    this.known = known;
  }

  /** Knows nothing yet. */
  static begin(move: Move): PieceFile {
    return new PieceFile(fileOf(move), new Map());
  }

  /** Knows what it kept the last time. */
  static open(move: Move): PieceFile {
    return new PieceFile(fileOf(move), placesIn(fileOf(move)));
  }

  /** Keeps what is kept while some work is done; where it fails, what was kept before stays. */
  async during(work: () => Promise<void>): Promise<void> {
    const partial = `${this.file}.partial`;
    await whileDoing(`Writing ${partial}`, async () => {
      await mkdir(dirname(partial), { recursive: true, mode: 0o700 });
      if (this.known.size > 0) this.from = openSync(this.file, 'r');
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
      if (this.from !== undefined) closeSync(this.from);
      this.from = undefined;
    }
    await whileDoing(`Writing ${this.file}`, () => rename(partial, this.file));
  }

  find(digest: Buffer): PiecePrints | undefined {
    const place = this.known.get(digest.toString('latin1'));
    if (!place || this.from === undefined) return undefined;
    const bytes = Buffer.allocUnsafe(sumBytes + printBytes * place.rows);
    if (readSync(this.from, bytes, 0, bytes.length, place.at) < bytes.length) return undefined;
    return { rows: place.rows, sum: bytes.subarray(0, sumBytes), prints: bytes.subarray(sumBytes) };
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

interface PlaceOfPiece {
  /** Where the sum of its digests is. */
  readonly at: number;
  readonly rows: number;
}

function fileOf({ folder }: Move): string {
  return folder.at('state', 'pieces');
}

/** Where the pieces of a file are; none where there is no file. */
function placesIn(file: string): Map<string, PlaceOfPiece> {
  const places = new Map<string, PlaceOfPiece>();
  let source: number;
  try {
    source = openSync(file, 'r');
  } catch {
    return places;
  }
  try {
    const { size } = fstatSync(source);
    const head = Buffer.alloc(digestBytes + 4);
    for (let at = 0; at + headBytes <= size; ) {
      readSync(source, head, 0, head.length, at);
      const rows = head.readUInt32LE(digestBytes);
      places.set(head.toString('latin1', 0, digestBytes), { at: at + head.length, rows });
      at += headBytes + printBytes * rows;
    }
  } finally {
    closeSync(source);
  }
  return places;
}
