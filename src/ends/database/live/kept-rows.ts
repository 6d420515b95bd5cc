import { open } from 'node:fs/promises';
import { asBytes, type ByteString, bufferOf, bytesOfText } from '../../../core/bytes.js';
import { version } from '../../../version.js';
import { whileDoing } from '../../system-errors.js';

/** What rows were, as statements in a file that is on the disk before the rows change. */
export class KeptRows {
  private readonly file: string;
  private readonly place: string;
  private handle: Awaited<ReturnType<typeof open>> | undefined;

  constructor(file: string, place: string) {
    this.file = file;
    this.place = place;
  }

  /** Adds statements; they are on the disk when this ends. */
  async keep(statements: readonly ByteString[]): Promise<void> {
    await whileDoing(`Writing ${this.file}`, async () => {
      if (!this.handle) {
        this.handle = await open(this.file, 'ax', 0o600);
        await this.handle.appendFile(this.head());
      }
      await this.handle.appendFile(bufferOf(asBytes(statements.map(one => `${one};\n`).join(''))));
      await this.handle.sync();
    });
  }

  close(): Promise<void> | undefined {
    return this.handle?.close();
  }

  private head(): Buffer {
    return bufferOf(
      bytesOfText(
        `-- Able Porter ${version}: what a rewriting changed in ${this.place}, to be put back.\n-- Each statement works only where its row is still as it was left.\nSET NAMES utf8mb4;\nSET SQL_MODE='STRICT_ALL_TABLES';\n`,
      ),
    );
  }
}
