import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { mkdir, open, rename, rm } from 'node:fs/promises';
import { basename, dirname, join } from 'node:path';
import { DamageError } from '../../core/errors.js';
import { type CheckedEntry, entryLine, LinksAbove, readEntryLine } from '../../core/files/entries.js';
import { toPorterError, whileDoing } from '../system-errors.js';
import type { CratePart } from './crate-part.js';

// A list of the files of a tree, a line each, in the order of their paths' bytes. It is never in memory as a whole.

const linesAtOnce = 1000;

/** Writes a list whole or not at all. @returns its size and checksum */
export async function writeEntryList(
  list: string,
  entries: AsyncIterable<CheckedEntry> | Iterable<CheckedEntry>,
): Promise<CratePart> {
  const hash = createHash('sha256');
  const partial = join(dirname(list), `.${basename(list)}.partial`);
  let bytes = 0;
  const file = await whileDoing(`Writing ${list}`, async () => {
    await mkdir(dirname(list), { recursive: true, mode: 0o700 });
    return open(partial, 'w', 0o600);
  });
  try {
    let lines: string[] = [];
    const write = async () => {
      const chunk = Buffer.from(lines.join(''));
      lines = [];
      hash.update(chunk);
      bytes += chunk.length;
      await whileDoing(`Writing ${list}`, () => file.appendFile(chunk));
    };
    for await (const entry of entries) {
      if (lines.push(`${entryLine(entry)}\n`) >= linesAtOnce) await write();
    }
    await write();
    await file.close();
  } catch (error) {
    await file.close().catch(() => {});
    await rm(partial, { force: true });
    throw error;
  }
  await whileDoing(`Writing ${list}`, () => rename(partial, list));
  return { bytes, sha256: hash.digest('hex') };
}

/**
 * Reads a list; nothing where there is none.
 * @param ofEnd whether it says what an end listed, whose links may lead anywhere
 * @param remedy what to do where it is damaged
 * @throws DamageError where a line is none of a list, or not in its order
 */
export async function* readEntryList(
  list: string,
  { ofEnd = false, remedy = 'Pack again: the crate was changed' } = {},
): AsyncIterable<CheckedEntry> {
  const damaged = (line: string, cause: string, error?: unknown) =>
    new DamageError({ doing: `Reading ${list}, at ${line.slice(0, 80)}`, cause, remedy }, { cause: error });
  let last = '';
  const above = new LinksAbove();
  for await (const lines of linesOf(list)) {
    for (const line of lines) {
      if (line === '') continue;
      let entry: CheckedEntry;
      try {
        entry = readEntryLine(line, ofEnd);
      } catch (error) {
        throw error instanceof DamageError ? damaged(line, error.details.cause, error) : error;
      }
      if (entry.path <= last) throw damaged(line, 'its lines are not in the order of their paths');
      if (!ofEnd && above.has(entry)) throw damaged(line, 'it is below a link');
      last = entry.path;
      yield entry;
    }
  }
}

/** The lines of a file, those of one piece of it together; none where it is not there. */
export async function* linesOf(file: string): AsyncIterable<string[]> {
  let rest = '';
  try {
    for await (const chunk of createReadStream(file, { encoding: 'utf8', highWaterMark: 128 * 1024 })) {
      const lines = (rest + chunk).split('\n');
      rest = lines.pop()!;
      yield lines;
    }
  } catch (error) {
    if ((error as NodeJS.ErrnoException).code === 'ENOENT') return;
    throw toPorterError(error, `Reading ${file}`);
  }
  if (rest !== '') yield [rest];
}
