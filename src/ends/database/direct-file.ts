import { closeSync, fdatasync, openSync, writeSync } from 'node:fs';
import { asTrouble } from '../trouble.js';

/** So much is brought to the disk at a time while more is written, so that little is left to wait for at the end. */
const flushBytes = 32 << 20;

/**
 * A file that is written as its bytes come. To hand pieces of their size to another thread would cost as much as
 * writing them. It has the same face as `PassingOn`.
 */
export class DirectFile {
  /** Nothing ever waits. */
  readonly waiting = 0;
  private readonly doing: string;
  private file: number | undefined;
  private failure: unknown;
  /** Bytes since the last time that what was written began to be brought to the disk. */
  private fresh = 0;
  private flushing: Promise<void> | undefined;

  constructor(name: string, doing: string) {
    this.doing = doing;
    this.attempt(() => {
      this.file = openSync(name, 'w');
    });
  }

  /** Writes a chunk, which may be changed after the call. A failure is told by what waits next. */
  take(chunk: Buffer): void {
    this.attempt(() => {
      for (let at = 0; at < chunk.length; ) at += writeSync(this.file!, chunk, at);
    });
    this.fresh += chunk.length;
    if (this.fresh >= flushBytes && !this.flushing) this.flush();
  }

  async room(_bytes: number): Promise<void> {
    if (this.failure) throw asTrouble(this.failure, this.doing);
  }

  settle(): Promise<void> {
    return this.room(0);
  }

  /** Ends when all was handed to the system. */
  async end(): Promise<void> {
    await this.destroy();
    await this.room(0);
  }

  async destroy(): Promise<void> {
    await this.flushing;
    const { file } = this;
    this.file = undefined;
    if (file !== undefined) closeSync(file);
  }

  /** Begins to bring what was written to the disk. Whether all of it came there is for the end to see. */
  private flush(): void {
    this.fresh = 0;
    this.flushing = new Promise<void>(resolve => fdatasync(this.file!, () => resolve())).then(() => {
      this.flushing = undefined;
    });
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
