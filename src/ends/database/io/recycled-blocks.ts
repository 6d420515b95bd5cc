import type { Writable } from 'node:stream';
import { finished, pipeline } from 'node:stream/promises';
import { toPorterError } from '../../system-errors.js';

/** Bytes that are passed on together. */
const blockBytes = 1 << 20;

/** Passes bytes on through streams in blocks, as fast as the last of them takes them. */
export class PassingOn {
  /** Bytes that were taken and not passed on yet. */
  waiting = 0;
  private readonly head: Writable;
  private readonly done: Promise<void>;
  private readonly doing: string;
  private failure: unknown;
  private readonly queue: Buffer[] = [];
  /** The block that is being filled, and how far it is. */
  private block: Buffer | undefined;
  private used = 0;
  private passing: Promise<void> | undefined;
  private stepped: Promise<void> | undefined;

  /** @param streams one at least; each passes on to the next @param end whether the last is ended with the others */
  constructor(streams: readonly Writable[], doing: string, end = true) {
    const head = streams[0]!;
    this.head = head;
    this.doing = doing;
    const running = streams.length > 1 ? pipeline([...streams], { end }) : finished(head);
    this.done = running.catch(error => {
      this.failure ??= error;
    });
  }

  /** Takes a chunk, to be passed on in its turn. It may be changed after the call. */
  take(chunk: Buffer): void {
    this.waiting += chunk.length;
    for (let at = 0; at < chunk.length; ) {
      this.block ??= Buffer.allocUnsafeSlow(blockBytes);
      const copied = chunk.copy(this.block, this.used, at);
      this.used += copied;
      at += copied;
      if (this.used === blockBytes) this.passBlock();
    }
  }

  /** Ends when no more than so many bytes wait. */
  async room(bytes: number): Promise<void> {
    if (bytes < this.used) this.passBlock();
    while (this.waiting - this.used > bytes && !this.failure) await this.stepped;
    this.tellFailure();
  }

  /** Ends when all that was taken was passed on. */
  settle(): Promise<void> {
    return this.room(0);
  }

  /** Ends when all that was taken is where it belongs. */
  async end(): Promise<void> {
    await this.settle();
    this.head.end();
    await this.done;
    this.tellFailure();
  }

  /** Ends without passing on what waits. */
  async destroy(): Promise<void> {
    this.head.destroy();
    await this.done;
  }

  private passBlock(): void {
    if (!this.block) return;
    this.queue.push(this.block.subarray(0, this.used));
    this.block = undefined;
    this.used = 0;
    this.passing ??= this.pass();
  }

  private async pass(): Promise<void> {
    while (this.queue.length > 0 && !this.failure) {
      const block = this.queue.shift()!;
      this.stepped = this.passOne(block);
      await this.stepped;
      this.waiting -= block.length;
    }
    this.passing = undefined;
  }

  private async passOne(block: Buffer): Promise<void> {
    if (!this.head.write(block))
      await Promise.race([new Promise(next => this.head.once('drain', next)), this.done]);
  }

  private tellFailure(): void {
    if (this.failure) throw toPorterError(this.failure, this.doing);
  }
}
