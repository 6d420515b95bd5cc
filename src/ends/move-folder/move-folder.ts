import { constants } from 'node:fs';
import { appendFile, open, readFile } from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { UsageError } from '../../core/errors.js';
import { type JournalRecord, readJournal } from '../../core/journal.js';
import { readSheet } from '../../core/sheet/read.js';
import type { Sheet } from '../../core/sheet/schema.js';
import { toPorterError, whileDoing } from '../system-errors.js';
import { writeWhole } from '../whole-file.js';
import { readSecretsFile } from './secrets.js';

/** The folder of one move: its sheet, its journal, its crate and what the steps write. */
export class MoveFolder {
  readonly folder: string;
  readonly sheetFile: string;

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
    try {
      return readJournal(await readFile(this.at('journal.ndjson'), 'utf8'));
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code === 'ENOENT') return [];
      throw toPorterError(error, `Reading the journal in ${this.folder}`);
    }
  }

  /** Adds a line and makes sure that it is on the disk before anything continues. */
  async note(record: JournalRecord): Promise<void> {
    const file = this.at('journal.ndjson');
    await whileDoing(`Writing the journal ${file}`, async () => {
      const handle = await open(file, constants.O_APPEND | constants.O_CREAT | constants.O_RDWR, 0o600);
      try {
        const { size } = await handle.stat();
        const cut = size > 0 && (await handle.read(Buffer.alloc(1), 0, 1, size - 1)).buffer[0] !== 0x0a;
        await appendFile(handle, `${cut ? '\n' : ''}${JSON.stringify(record)}\n`);
        await handle.sync();
      } finally {
        await handle.close();
      }
    });
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
  async write(name: string, content: string): Promise<string> {
    const file = this.at(name);
    await whileDoing(`Writing ${file}`, () => writeWhole(file, content, 0o600));
    return file;
  }
}
