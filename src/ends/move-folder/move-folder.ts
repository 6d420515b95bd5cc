import { constants } from 'node:fs';
import { type FileHandle, open, readFile } from 'node:fs/promises';
import { basename, dirname, join, relative, resolve } from 'node:path';
import { UsageError } from '../../core/errors.js';
import { type Deed, type JournalRecord, journalLine, readJournal } from '../../core/journal.js';
import { readSheet } from '../../core/sheet/read.js';
import type { Sheet } from '../../core/sheet/schema.js';
import { toPorterError, whileDoing } from '../system-errors.js';
import { writeAllAt, writeWhole } from '../whole-file.js';
import { MoveLock } from './lock.js';
import { readSecretsFile } from './secrets.js';

/** The folder of one move: its sheet, its journal, its crate and what the steps write. */
export class MoveFolder {
  readonly folder: string;
  readonly sheetFile: string;
  /** Folders outside of it that are moved together with it: the sheet names places in them by relative paths. */
  readonly companions = new Set<string>();
  private held: MoveLock | undefined;
  private keep: (() => Promise<void>) | undefined;
  /** The line of the journal that is being written. */
  private lastNote: Promise<unknown> = Promise.resolve();

  constructor(sheetFile: string) {
    this.sheetFile = resolve(sheetFile);
    this.folder = dirname(this.sheetFile);
  }

  /** A path inside the move folder. */
  at(...parts: string[]): string {
    return join(this.folder, ...parts);
  }

  /** @throws UsageError (a SheetError with every mistake) when the sheet cannot be used */
  async readSheet(environment: Readonly<Record<string, string | undefined>>): Promise<Sheet> {
    let text: string;
    try {
      text = await readFile(this.sheetFile, 'utf8');
    } catch (cause) {
      throw new UsageError(
        {
          doing: `Reading the sheet ${this.sheetFile}`,
          cause:
            (cause as NodeJS.ErrnoException).code === 'ENOENT'
              ? 'there is none'
              : (cause as NodeJS.ErrnoException).code === 'EISDIR'
                ? 'it is a folder'
                : String((cause as Error).message),
          remedy: 'Write one with "able-porter start", or name yours with --sheet',
        },
        { cause },
      );
    }
    const secrets = await readSecretsFile(this.at('.env'));
    return readSheet(text, basename(this.sheetFile), name => environment[name] ?? secrets[name]);
  }

  async readJournal(): Promise<JournalRecord[]> {
    await this.lastNote;
    try {
      const records = readJournal(await readFile(this.at('journal.ndjson'), 'utf8'));
      return records.map(record => withPlaces(record, place => this.absolute(place)));
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return [];
      throw toPorterError(error, `Reading the journal in ${this.folder}`);
    }
  }

  /** Adds a line and makes sure that it is on the disk before anything continues. */
  note(record: JournalRecord): Promise<void> {
    // One after the other, whoever notes something at the same moment.
    const noted = this.lastNote.then(() => this.noteNow(record));
    this.lastNote = noted.catch(() => {});
    return noted;
  }

  private async noteNow(record: JournalRecord): Promise<void> {
    // What is done next is noted first: one that lost its lock does nothing of it.
    await this.held?.assertHeld();
    const file = this.at('journal.ndjson');
    await whileDoing(`Writing the journal ${file}`, async () => {
      const handle = await open(file, constants.O_CREAT | constants.O_RDWR, 0o600);
      try {
        const { size } = await handle.stat();
        // A line that a crash cut short was never acted on.
        const end = await endOfLines(handle, size);
        if (end < size) await handle.truncate(end);
        const kept = withPlaces(record, place => this.relative(place));
        await writeAllAt(handle, Buffer.from(journalLine(kept)), end);
        await handle.sync();
      } finally {
        await handle.close();
      }
    });
    if (record.deed) await this.keep?.();
  }

  /** A place as the journal holds it: relative to the move folder where it moves with it. */
  private relative(place: string): string {
    const isCompanion = [...this.companions].some(folder => place.startsWith(`${folder}/`));
    return isCompanion ? `./${relative(this.folder, place)}` : place;
  }

  private absolute(place: string): string {
    return place.startsWith('./') ? resolve(this.folder, place) : place;
  }

  /**
   * Keeps other runs from working on this move until the lock is released.
   * @param fence with which one that works for a fleet is let in
   * @throws UsageError where another does
   */
  async lock(fence?: number): Promise<MoveLock> {
    this.held = await MoveLock.take(this.at('.lock'), 'this move', fence);
    return this.held;
  }

  /** From now on the folder is kept elsewhere too whenever a deed was noted, before that is done. */
  keepBeforeDeeds(keep: () => Promise<void>): void {
    this.keep = keep;
  }

  /** The text of a file in it, or undefined where there is none. */
  async read(name: string): Promise<string | undefined> {
    try {
      return await readFile(this.at(name), 'utf8');
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return undefined;
      throw toPorterError(error, `Reading ${this.at(name)}`);
    }
  }

  /** Writes a small file whole or not at all; gives its path. */
  async write(name: string, content: string | Buffer): Promise<string> {
    const file = this.at(name);
    await whileDoing(`Writing ${file}`, () => writeWhole(file, content, 0o600));
    return file;
  }
}

/** The offset after the last line of a file that is whole. */
async function endOfLines(handle: FileHandle, size: number): Promise<number> {
  const piece = Buffer.alloc(4096);
  for (let end = size; end > 0; ) {
    const from = Math.max(0, end - piece.length);
    const { bytesRead } = await handle.read(piece, 0, end - from, from);
    const at = piece.subarray(0, bytesRead).lastIndexOf(0x0a);
    if (at >= 0) return from + at + 1;
    end = from;
  }
  return 0;
}

/** A record with other texts for the places that its deed names. */
function withPlaces(record: JournalRecord, as: (place: string) => string): JournalRecord {
  const { deed } = record;
  if (!deed || !('place' in deed)) return record;
  const keepsake = 'keepsake' in deed ? { keepsake: as(deed.keepsake) } : {};
  return { ...record, deed: { ...deed, place: as(deed.place), ...keepsake } as Deed };
}
