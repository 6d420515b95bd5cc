import { createReadStream, createWriteStream, existsSync } from 'node:fs';
import { open, rename } from 'node:fs/promises';
import type { CratePart } from '../../move-folder/crate-part.js';
import { whileDoing } from '../../system-errors.js';
import { Packing } from '../io/compress.js';
import { Measuring } from '../io/metering.js';
import { PassingOn } from '../io/recycled-blocks.js';

/**
 * A dump that is written piece by piece, each packed on its own: one gzip file after another is a gzip file (RFC 1952,
 * section 2.2). After each piece it can be left and resumed.
 */
export class GrowingDump {
  private readonly file: string;
  private readonly measuring: Measuring;

  private constructor(file: string, measuring: Measuring) {
    this.file = file;
    this.measuring = measuring;
  }

  /**
   * Resumes what an earlier run left, if the file begins with the whole pieces that it noted; otherwise starts again
   * with an empty file.
   */
  static open(file: string, noted?: CratePart): Promise<GrowingDump> {
    return whileDoing(`Writing ${file}`, async () => {
      const left = noted && (await measured(file, noted.bytes));
      const kept = left && left.bytes === noted.bytes && left.sha256() === noted.sha256 ? left : undefined;
      const opened = await open(file, kept ? 'r+' : 'w', 0o600);
      await opened.truncate(kept?.bytes ?? 0).finally(() => opened.close());
      return new GrowingDump(file, kept ?? new Measuring());
    });
  }

  /** The pieces that are there. */
  get whole(): CratePart {
    return { bytes: this.measuring.bytes, sha256: this.measuring.sha256() };
  }

  /** Adds a piece. Where writing it fails, what is there of it is no part of the dump. */
  async add(write: (sink: PassingOn) => Promise<void>): Promise<void> {
    const out = createWriteStream(this.file, { flags: 'a', highWaterMark: 1 << 20 });
    const sink = new PassingOn(
      [new Packing({ keepUp: true }), this.measuring.stream(), out],
      `Writing ${this.file}`,
    );
    try {
      await write(sink);
      await sink.end();
    } catch (error) {
      await sink.destroy();
      throw error;
    }
  }

  /** Ends when what was added before is on the disk. */
  async sync(): Promise<void> {
    await whileDoing(`Writing ${this.file}`, async () => {
      const opened = await open(this.file, 'r+');
      await opened.datasync().finally(() => opened.close());
    });
  }

  /** Gives the whole dump its name. */
  async finish(name: string): Promise<CratePart> {
    await this.sync();
    await whileDoing(`Writing ${name}`, () => rename(this.file, name));
    return this.whole;
  }
}

/** What a file begins with; nothing where there is no such file. */
async function measured(file: string, bytes: number): Promise<Measuring> {
  const measuring = new Measuring();
  if (bytes === 0 || !existsSync(file)) return measuring;
  for await (const chunk of createReadStream(file, { end: bytes - 1, highWaterMark: 1 << 20 }))
    measuring.add(chunk as Buffer);
  return measuring;
}
