import { createWriteStream } from 'node:fs';
import { open, rename, rm } from 'node:fs/promises';
import { basename, dirname, join } from 'node:path';
import { PassThrough } from 'node:stream';
import type { Workbench } from '../../../core/kernels/workbench.js';
import { whileDoing } from '../../system-errors.js';
import { Packing } from '../io/compress.js';
import { DirectFile } from '../io/direct-file.js';
import { Measuring } from '../io/metering.js';
import { PassingOn } from '../io/recycled-blocks.js';

/** What was written, for a manifest. */
export interface WrittenDump {
  /** Bytes of the file as it is there. */
  readonly bytes: number;
  /** Of the file as it is there; undefined where no checksum was asked for. */
  readonly sha256: string | undefined;
}

/**
 * Writes a dump beside its final name and puts it there when it is whole, so that what bears the name is never
 * half-done. Packed with gzip where the name ends so; `-` writes plain to standard output.
 */
export class DumpWriter {
  private readonly file: string;
  private readonly partial: string | undefined;
  private readonly passingOn: PassingOn | DirectFile;
  private readonly measuring: Measuring | undefined;

  constructor(bench: Workbench, file: string, options: { checksum: boolean }) {
    this.file = file;
    this.partial = file === '-' ? undefined : join(dirname(file), `.${basename(file)}.partial`);
    this.measuring = options.checksum ? new Measuring() : undefined;
    const packing = file.endsWith('.gz') ? new Packing() : undefined;
    if (this.partial !== undefined && !this.measuring && !packing) {
      this.passingOn = new DirectFile(bench, this.partial, `Writing ${file}`);
      return;
    }
    const out =
      this.partial === undefined ? process.stdout : createWriteStream(this.partial, { mode: 0o600 });
    // Standard output is not ours to end, and so needs a stream before it that is.
    const before = this.measuring?.stream() ?? (file === '-' ? new PassThrough() : undefined);
    const streams = [packing, before, out].filter(stream => stream !== undefined);
    this.passingOn = new PassingOn(streams, `Writing ${file}`, file !== '-');
  }

  /** Bytes that were taken and not passed on yet. */
  get waiting(): number {
    return this.passingOn.waiting;
  }

  /** Takes a chunk, to be passed on as fast as the disk takes it. */
  take(chunk: Buffer): void {
    this.passingOn.take(chunk);
  }

  /** Where the next chunk may be put before it is taken, if anywhere. */
  place(): Buffer | undefined {
    return this.passingOn instanceof DirectFile ? this.passingOn.place() : undefined;
  }

  /** Ends when no more than so many bytes wait. */
  room(bytes: number): Promise<void> {
    return this.passingOn.room(bytes);
  }

  /** Ends when all that was taken is passed on. */
  settle(): Promise<void> {
    return this.passingOn.settle();
  }

  /** Puts the whole dump at its name. */
  async finish(): Promise<WrittenDump> {
    await this.passingOn.end();
    const { partial } = this;
    if (partial !== undefined) {
      await whileDoing(`Writing ${this.file}`, async () => {
        const file = await open(partial, 'r+');
        await file.sync().finally(() => file.close());
        await rename(partial, this.file);
      });
    }
    return { bytes: this.measuring?.bytes ?? 0, sha256: this.measuring?.sha256() };
  }

  /** Removes what was written so far. */
  async discard(): Promise<void> {
    await this.passingOn.destroy();
    if (this.partial !== undefined) await rm(this.partial, { force: true });
  }
}
