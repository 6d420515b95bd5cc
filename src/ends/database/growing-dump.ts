import { createReadStream, createWriteStream } from 'node:fs';
import { open, rename, truncate } from 'node:fs/promises';
import type { CratePart } from '../crate.js';
import { telling } from '../trouble.js';
import { Measuring } from './measuring.js';
import { Packing } from './packing.js';
import { PassingOn } from './passing-on.js';

/**
 * A dump that is written piece by piece, each packed by itself: one gzip file after another is a gzip file (RFC 1952,
 * section 2.2). After each piece it can be left and gone on with.
 */
export class GrowingDump {
  private readonly file: string;
  private readonly measuring = new Measuring();

  private constructor(file: string) {
    this.file = file;
  }

  /** @param kept bytes of whole pieces that are there from an earlier run; 0 to begin anew */
  static async open(file: string, kept: number): Promise<GrowingDump> {
    const dump = new GrowingDump(file);
    await telling(`Writing ${file}`, async () => {
      const opened = await open(file, kept > 0 ? 'r+' : 'w');
      await opened.close();
      await truncate(file, kept);
      for await (const chunk of createReadStream(file, { highWaterMark: 1 << 20 }))
        dump.measuring.add(chunk as Buffer);
    });
    return dump;
  }

  /** Bytes of the pieces that are there. */
  get bytes(): number {
    return this.measuring.bytes;
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
    await telling(`Writing ${this.file}`, async () => {
      const opened = await open(this.file, 'r+');
      await opened.datasync().finally(() => opened.close());
    });
  }

  /** Gives the whole dump its name. */
  async finish(name: string): Promise<CratePart> {
    await this.sync();
    await telling(`Writing ${name}`, () => rename(this.file, name));
    return { bytes: this.measuring.bytes, sha256: this.measuring.sha256() };
  }
}
