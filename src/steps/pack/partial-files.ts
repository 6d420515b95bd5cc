import { appendFileSync } from 'node:fs';
import { rm } from 'node:fs/promises';
import type { ByteString } from '../../core/bytes.js';
import { entryLine, type FileEntry, readEntryLine } from '../../core/files/entries.js';
import type { Crate } from '../../ends/move-folder/crate.js';
import { linesOf } from '../../ends/move-folder/entry-list.js';
import { toPorterError } from '../../ends/system-errors.js';

/** The list in the crate; it is there from when a pack sets out until it is done. */
const list = 'begun.ndjson';

/**
 * Files that a pack had begun to take, as they were then: what is in the crate of one is resumed as long as it is
 * still the same at the old end.
 */
export class PartialFiles {
  private readonly crate: Crate;
  private readonly begun: ReadonlyMap<ByteString, FileEntry>;

  private constructor(crate: Crate, begun: ReadonlyMap<ByteString, FileEntry>) {
    this.crate = crate;
    this.begun = begun;
  }

  /** Those of the packs that were interrupted. */
  static async of(crate: Crate): Promise<PartialFiles> {
    const begun = new Map<ByteString, FileEntry>();
    for await (const lines of linesOf(crate.at(list))) {
      for (const line of lines) {
        const entry = readBegun(line);
        const here = entry && (await crate.files.entry(entry.path));
        // Of most, all has come since.
        if (here && (here.size !== entry.size || here.mtime !== entry.mtime)) begun.set(entry.path, entry);
      }
    }
    return new PartialFiles(crate, begun);
  }

  /** Whether what is there may be a part of a file as it is now, or all of it. */
  has({ path, size, mtime }: FileEntry, here: FileEntry): boolean {
    const begun = this.begun.get(path);
    return begun?.size === size && begun.mtime === mtime && here.size <= size;
  }

  /** Notes a file before anything of it is written. */
  note(entry: FileEntry): void {
    const file = this.crate.at(list);
    try {
      appendFileSync(file, `${entryLine(entry)}\n`);
    } catch (error) {
      throw toPorterError(error, `Writing ${file}`);
    }
  }

  async forget(): Promise<void> {
    await rm(this.crate.at(list), { force: true });
  }
}

/** A line of the list, except one that was cut short. */
function readBegun(line: string): FileEntry | undefined {
  try {
    return line === '' ? undefined : readEntryLine(line, false);
  } catch {
    return undefined;
  }
}
