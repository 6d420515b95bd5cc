import { createHash } from 'node:crypto';
import { createWriteStream } from 'node:fs';
import { open, rename, rm } from 'node:fs/promises';
import { basename, dirname, join } from 'node:path';
import { PassThrough, Transform, type Writable } from 'node:stream';
import { finished, pipeline } from 'node:stream/promises';
import { createGzip } from 'node:zlib';
import { asTrouble, telling } from '../trouble.js';

/** So much room has packing for what it gives back in one go, in bytes. */
const stepBytes = 2 * 1024 * 1024;

/** What was written, for a manifest. */
export interface WrittenDump {
  /** Bytes of the file as it lies there. */
  readonly bytes: number;
  /** Of the file as it lies there; undefined where no checksum was asked for. */
  readonly sha256: string | undefined;
}

/**
 * Writes a dump beside its final name and puts it there when it is whole, so that what bears the name is never
 * half-done. Packed with gzip where the name ends so; `-` writes plain to standard output.
 */
export class DumpWriter {
  private readonly file: string;
  private readonly partial: string | undefined;
  private readonly head: Writable;
  private readonly done: Promise<void>;
  private readonly hash = createHash('sha256');
  private readonly checksum: boolean;
  private bytes = 0;
  private failure: unknown;
  private readonly queue: Buffer[] = [];
  private passing: Promise<void> | undefined;
  private stepped: Promise<void> | undefined;

  constructor(file: string, options: { checksum: boolean }) {
    this.file = file;
    this.checksum = options.checksum;
    this.partial = file === '-' ? undefined : join(dirname(file), `.${basename(file)}.partial`);
    const out =
      this.partial === undefined
        ? process.stdout
        : createWriteStream(this.partial, { highWaterMark: 4 << 20 });
    const gzip = file.endsWith('.gz')
      ? createGzip({ level: 1, memLevel: 9, chunkSize: stepBytes })
      : undefined;
    // Standard output is not ours to end.
    const measure = options.checksum ? this.measuring() : file === '-' ? new PassThrough() : undefined;
    const [head, ...rest] = [gzip, measure, out].filter(stream => stream !== undefined);
    this.head = head!;
    const running = rest.length > 0 ? pipeline([head!, ...rest], { end: file !== '-' }) : finished(out);
    this.done = this.watching(running);
  }

  /** Bytes that were taken and not passed on yet. */
  waiting = 0;

  /** Takes a chunk, to be passed on as fast as the disk takes it. */
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

  /** Ends when all that was taken is passed on. */
  settle(): Promise<void> {
    return this.room(0);
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

  /** Puts the whole dump at its name. */
  async finish(): Promise<WrittenDump> {
    await this.settle();
    this.head.end();
    await this.done;
    this.tellFailure();
    const { partial } = this;
    if (partial !== undefined) {
      await telling(`Writing ${this.file}`, async () => {
        const file = await open(partial, 'r+');
        await file.sync().finally(() => file.close());
        await rename(partial, this.file);
      });
    }
    return { bytes: this.bytes, sha256: this.checksum ? this.hash.digest('hex') : undefined };
  }

  /** Takes away what was written so far. */
  async discard(): Promise<void> {
    this.head.destroy();
    await this.done;
    if (this.partial !== undefined) await rm(this.partial, { force: true });
  }

  private measuring(): Transform {
    return new Transform({
      highWaterMark: 1 << 20,
      transform: (chunk: Buffer, _encoding, next) => {
        this.hash.update(chunk);
        this.bytes += chunk.length;
        next(null, chunk);
      },
    });
  }

  private watching(running: Promise<void>): Promise<void> {
    return running.catch(error => {
      this.failure ??= error;
    });
  }

  private tellFailure(): void {
    if (this.failure) throw asTrouble(this.failure, `Writing ${this.file}`);
  }
}
