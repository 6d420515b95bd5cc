import { closeSync, constants, openSync, write, writeSync } from 'node:fs';
import { blockBytes, type Workbench } from '../../../core/kernels/workbench.js';
import { toPorterError } from '../../system-errors.js';

/** So many blocks can be filled or on their way to the disk at a time, where they are our own. */
const ownBlocks = 4;

/**
 * A file that is written as its bytes come, past the system's cache where that can be done: the disk takes blocks from
 * where they lie while the next are filled. Through the cache every byte is copied once more, and what the cache has
 * gathered keeps everybody waiting when it must go to the disk. It has the same methods as `PassingOn`.
 */
export class DirectFile {
  private readonly bench: Workbench;
  private readonly name: string;
  private readonly doing: string;
  private file: number | undefined;
  /** The same file, open past the cache. */
  private past: number | undefined;
  private failure: unknown;
  private lent: readonly Buffer[] | undefined;
  private readonly blocks: number;
  private readonly free: Buffer[];
  /** The block that is being filled, where in the file it will lie, and how far it is. */
  private block: Buffer;
  private at = 0;
  private used = 0;
  /** Whether the block came with bytes in it that do not change, and may still be read by whoever works on it. */
  private isShared = false;
  /** A block that may still be read, and is free then. */
  private freeLater: Buffer | undefined;
  private readonly underWay = new Set<Promise<void>>();

  constructor(bench: Workbench, name: string, doing: string) {
    this.bench = bench;
    this.name = name;
    this.doing = doing;
    this.lent = this.bench.outgoing.take();
    // What is nobody's memory but ours begins anywhere, and goes the usual way.
    const blocks = this.lent ?? Array.from({ length: ownBlocks }, () => Buffer.allocUnsafeSlow(blockBytes));
    this.blocks = blocks.length;
    [this.block, ...this.free] = blocks as [Buffer, ...Buffer[]];
    this.attempt(() => {
      this.file = openSync(name, 'w', 0o600);
    });
  }

  /** Bytes that were taken and are not written yet. */
  get waiting(): number {
    return this.underWay.size * blockBytes + this.used;
  }

  /**
   * Takes a chunk, which may be changed after the call; one that begins an incoming block of the workbench, or follows on
   * what began one, when room was asked for. A failure is reported by what waits next.
   */
  take(chunk: Buffer): void {
    for (let from = 0; from < chunk.length; ) {
      if (this.used === 0) this.share(chunk, from);
      const { block, used } = this;
      const liesThere = chunk.buffer === block.buffer && chunk.byteOffset + from === block.byteOffset + used;
      const taken = Math.min(chunk.length - from, blockBytes - used);
      if (!liesThere) {
        this.keepApart();
        this.bench.copy(chunk, from, this.block, used, taken);
      }
      from += taken;
      this.used += taken;
      if (this.used === blockBytes) this.passBlock();
    }
  }

  /** Where the next chunk may be put before it is taken, so that it need not be copied there. */
  place(): Buffer | undefined {
    return this.isShared ? undefined : this.block.subarray(this.used);
  }

  /** Ends when no more than so many bytes wait, and half of the blocks are free. */
  async room(bytes: number): Promise<void> {
    this.isShared = false;
    if (this.freeLater) this.free.push(this.freeLater);
    this.freeLater = undefined;
    const most = Math.min(bytes / blockBytes, this.blocks / 2);
    while (this.underWay.size > most) await Promise.race(this.underWay);
    if (this.failure) throw toPorterError(this.failure, this.doing);
  }

  /** Ends when all whole blocks are written. */
  settle(): Promise<void> {
    return this.room(0);
  }

  /** Ends when all was handed to the disk or the system. */
  async end(): Promise<void> {
    await this.settle();
    // What is left is no whole block, which only the cache takes.
    this.attempt(() => writeAll(this.file!, this.block.subarray(0, this.used), this.at));
    await this.destroy();
    await this.settle();
  }

  async destroy(): Promise<void> {
    await Promise.all(this.underWay);
    if (this.lent) this.bench.outgoing.giveBack();
    this.lent = undefined;
    for (const file of [this.file, this.past]) if (file !== undefined) closeSync(file);
    this.file = undefined;
    this.past = undefined;
  }

  /** Where a chunk begins an incoming block, the block is filled from there on. */
  private share(chunk: Buffer, from: number): void {
    // There must be another to continue with when something changes.
    const block = this.lent && this.free.length > 0 && this.bench.passOn(chunk, from, this.block);
    if (!block) return;
    this.block = block;
    this.isShared = true;
  }

  /** Continues in a block of its own where the next bytes would change what may still be read. */
  private keepApart(): void {
    if (!this.isShared) return;
    const { block, used } = this;
    this.isShared = false;
    this.block = this.free.pop()!;
    this.bench.copy(block, 0, this.block, 0, used);
    this.freeLater = block;
  }

  private passBlock(): void {
    const { block, at } = this;
    this.used = 0;
    this.at += blockBytes;
    // All of it was taken, and so was read.
    this.isShared = false;
    if (at === 0) {
      if (!this.writtenPast(block)) this.attempt(() => writeAll(this.file!, block, at));
      return;
    }
    const next = this.free.pop();
    if (!next) this.attempt(() => writeAll(this.file!, block, at));
    else {
      this.block = next;
      this.send(block, at);
    }
  }

  /** Tries the way past the cache with the first block: some file systems say only then that they have none. */
  private writtenPast(block: Buffer): boolean {
    // The system may know no such way.
    const { O_WRONLY, O_DIRECT } = constants as Partial<typeof constants>;
    if (!this.lent || O_DIRECT === undefined) return false;
    try {
      this.past = openSync(this.name, O_WRONLY! | O_DIRECT);
      writeAll(this.past, block, 0);
      return true;
    } catch {
      // The usual way says what is wrong, if anything is.
      if (this.past !== undefined) closeSync(this.past);
      this.past = undefined;
      return false;
    }
  }

  private send(block: Buffer, at: number): void {
    if (this.failure) {
      this.free.push(block);
      return;
    }
    const file = this.past ?? this.file!;
    const sending = new Promise<void>(resolve => {
      write(file, block, 0, block.length, at, (error, bytes) => {
        // What kept it from writing all of it is reported when the rest is written the usual way.
        const done = error ? 0 : bytes;
        if (done < block.length) this.attempt(() => writeAll(this.file!, block.subarray(done), at + done));
        resolve();
      });
    }).then(() => {
      this.underWay.delete(sending);
      this.free.push(block);
    });
    this.underWay.add(sending);
  }

  /** Does something, unless something has failed before. */
  private attempt(work: () => void): void {
    if (this.failure) return;
    try {
      work();
    } catch (error) {
      this.failure = error;
    }
  }
}

function writeAll(file: number, bytes: Buffer, at: number): void {
  for (let done = 0; done < bytes.length; )
    done += writeSync(file, bytes, done, bytes.length - done, at + done);
}
