import type { Writable } from 'node:stream';
import { finished, pipeline } from 'node:stream/promises';
import { asTrouble } from '../trouble.js';

/** Passes chunks on through streams, as fast as the last of them takes them. */
export class PassingOn {
  /** Bytes that were taken and not passed on yet. */
  waiting = 0;
  private readonly head: Writable;
  private readonly done: Promise<void>;
  private readonly doing: string;
  private failure: unknown;
  private readonly queue: Buffer[] = [];
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

  /** Takes a chunk, to be passed on in its turn. */
  take(chunk: Buffer): void {
    this.queue.push(chunk);
    this.waiting += chunk.length;
    this.passing ??= this.pass();
  }

  /** Ends when no more than so many bytes wait. */
  async room(bytes: number): Promise<void> {
    while (this.waiting > bytes && !this.failure) await this.stepped;
    this.tellFailure();
  }

  /** Ends when all that was taken is where it belongs. */
  async end(): Promise<void> {
    await this.room(0);
    this.head.end();
    await this.done;
    this.tellFailure();
  }

  /** Ends without passing on what waits. */
  async destroy(): Promise<void> {
    this.head.destroy();
    await this.done;
  }

  private async pass(): Promise<void> {
    while (this.queue.length > 0 && !this.failure) {
      const chunk = this.queue.shift()!;
      this.stepped = this.passOne(chunk);
      await this.stepped;
      this.waiting -= chunk.length;
    }
    this.passing = undefined;
  }

  private async passOne(chunk: Buffer): Promise<void> {
    if (!this.head.write(chunk))
      await Promise.race([new Promise(next => this.head.once('drain', next)), this.done]);
  }

  private tellFailure(): void {
    if (this.failure) throw asTrouble(this.failure, this.doing);
  }
}
