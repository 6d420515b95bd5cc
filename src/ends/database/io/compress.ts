import { availableParallelism } from 'node:os';
import { Transform, type TransformCallback } from 'node:stream';
import { promisify } from 'node:util';
import { constants, crc32, deflateRaw } from 'node:zlib';

const deflate = promisify(deflateRaw) as (input: Buffer, options: object) => Promise<Buffer>;

/** So much is packed in one go, in bytes: enough that what is lost at its borders does not show. */
const pieceBytes = 1024 * 1024;
/** Pieces that are packed at once. */
const atOnce = Math.min(4, Math.max(2, availableParallelism()));

/** What a gzip file begins with: no name, no time, packed quickly, of an unknown system (RFC 1952, section 2.3). */
const head = Buffer.from([0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 4, 255]);
/** The last block of what is packed, with nothing in it (RFC 1951, section 3.2.6). */
const lastBlock = Buffer.from([3, 0]);

/** So many pieces may wait for one before them that is still being packed. */
const mostWaiting = 2;
/** So long may a block be that is stored as it is (RFC 1951, section 3.2.4). */
const storedBytes = 65_535;

/** Packs with gzip, piece by piece on all cores, into one file of one part, which the simplest programs can open. */
export class Packing extends Transform {
  private gathered: Buffer[] = [];
  private size = 0;
  private readonly packed: Promise<readonly Buffer[]>[] = [];
  /** Pieces that are being packed. */
  private underWay = 0;
  private sum = 0;
  private total = 0;

  private readonly keepUp: boolean;

  /** @param keepUp store pieces as they are, where packing would keep the sender waiting */
  constructor({ keepUp } = { keepUp: false }) {
    super({ highWaterMark: 4 * pieceBytes });
    this.keepUp = keepUp;
    this.push(head);
  }

  override _transform(chunk: Buffer, _encoding: string, next: TransformCallback): void {
    this.sum = crc32(chunk, this.sum);
    this.total += chunk.length;
    this.gathered.push(chunk);
    this.size += chunk.length;
    if (this.size < pieceBytes) {
      next();
      return;
    }
    this.packPiece();
    this.passOn(this.keepUp ? mostWaiting : atOnce - 1).then(() => next(), next);
  }

  override _flush(next: TransformCallback): void {
    this.packPiece();
    const tail = Buffer.alloc(8);
    tail.writeUInt32LE(this.sum, 0);
    tail.writeUInt32LE(this.total % 2 ** 32, 4);
    this.passOn(0).then(() => next(null, Buffer.concat([lastBlock, tail])), next);
  }

  private packPiece(): void {
    if (this.size === 0) return;
    const piece = this.gathered.length === 1 ? this.gathered[0]! : Buffer.concat(this.gathered);
    this.gathered = [];
    this.size = 0;
    if (this.keepUp && this.underWay >= atOnce) {
      this.packed.push(Promise.resolve(stored(piece)));
      return;
    }
    this.underWay++;
    // A piece ends at a whole byte, and the next continues behind it.
    const options = { level: 1, memLevel: 9, chunkSize: pieceBytes, finishFlush: constants.Z_SYNC_FLUSH };
    const packing = deflate(piece, options).then(made => [made]);
    // Whoever waits for it hears of its error.
    packing.then(
      () => this.underWay--,
      () => {},
    );
    this.packed.push(packing);
  }

  /** Passes on what is packed, in its order, until no more than so many pieces are left. */
  private async passOn(left: number): Promise<void> {
    while (this.packed.length > left) {
      const made = await this.packed.shift()!;
      for (const chunk of made) this.push(chunk);
    }
  }
}

/** A piece as blocks that are stored as they are. */
function stored(piece: Buffer): Buffer[] {
  const blocks: Buffer[] = [];
  for (let at = 0; at < piece.length; at += storedBytes) {
    const bytes = piece.subarray(at, at + storedBytes);
    const before = Buffer.alloc(5);
    before.writeUInt16LE(bytes.length, 1);
    before.writeUInt16LE(~bytes.length & 0xffff, 3);
    blocks.push(before, bytes);
  }
  return blocks;
}
