import { createReadStream, createWriteStream, type WriteStream } from 'node:fs';
import { readdir, rename, rm } from 'node:fs/promises';
import { basename, dirname, join } from 'node:path';
import { UsageError } from '../../core/errors.js';
import { whileDoing } from '../system-errors.js';

const partName = /^(.*)\.(\d{3,})$/s;

/**
 * Writes content to a file, or to numbered parts of it (`.001`, `.002`, …) that `cat` joins. They get their names
 * when all is written.
 * @param partBytes the most bytes of a part; undefined for one file
 * @returns the paths that were written
 */
export async function writeParts(
  file: string,
  content: AsyncIterable<Buffer>,
  partBytes: number | undefined,
): Promise<string[]> {
  await whileDoing(`Clearing ${dirname(file)}`, () => removeParts(file));
  const paths: string[] = [];
  let out: WriteStream | undefined;
  let left = 0;
  const end = () =>
    new Promise<void>((resolve, reject) => (out ? out.once('error', reject).end(resolve) : resolve()));
  await whileDoing(`Writing ${file}`, async () => {
    for await (const chunk of content) {
      for (let at = 0; at < chunk.length; ) {
        if (!out || left === 0) {
          await end();
          const path =
            partBytes === undefined ? file : `${file}.${String(paths.length + 1).padStart(3, '0')}`;
          paths.push(path);
          out = createWriteStream(`${path}.partial`, { mode: 0o600 });
          left = partBytes ?? Number.POSITIVE_INFINITY;
        }
        const some = chunk.subarray(at, at + Math.min(left, chunk.length - at));
        await written(out, some);
        at += some.length;
        left -= some.length;
      }
    }
    await end();
    for (const path of paths) await rename(`${path}.partial`, path);
  });
  return paths;
}

function written(out: WriteStream, chunk: Buffer): Promise<void> {
  return new Promise((resolve, reject) => {
    out.write(chunk, error => (error ? reject(error) : resolve()));
  });
}

/** Parts of an earlier archive must not be taken for those of this one. */
async function removeParts(file: string): Promise<void> {
  for (const name of await readdir(dirname(file))) {
    const whole = name.replace(/\.partial$/, '');
    const of = partName.exec(whole)?.[1] ?? whole;
    if (of === basename(file)) await rm(join(dirname(file), name));
  }
}

/**
 * The files of an archive in their order: parts may be given in any order, or the first alone.
 * @throws UsageError where a part is missing, or the files are not of one archive
 */
export async function partsOf(files: readonly string[]): Promise<string[]> {
  const [first, ...others] = files;
  const refuse = (cause: string, remedy: string) =>
    new UsageError({ doing: `Opening ${first}`, cause, remedy });
  if (first === undefined) throw refuse('no file is named', 'Name the file, or all of its parts');
  const whole = partName.exec(first)?.[1];
  if (whole === undefined) {
    if (others.length > 0)
      throw refuse('it is no part of an archive, and others are named', 'Name one archive');
    return [first];
  }
  let named = [...files];
  if (others.length === 0) {
    const names = await whileDoing(`Looking for the parts of ${whole}`, () => readdir(dirname(first)));
    named = names
      .filter(name => partName.exec(name)?.[1] === basename(whole))
      .map(name => join(dirname(first), name));
  }
  const byNumber = new Map<number, string>();
  for (const file of named) {
    const [, of, number] = partName.exec(file) ?? [];
    if (of === undefined || basename(of) !== basename(whole))
      throw refuse(`${file} is no part of the same archive`, 'Name the parts of one archive');
    byNumber.set(Number(number), file);
  }
  const last = Math.max(...byNumber.keys());
  const missing = Array.from({ length: last }, (_, i) => i + 1).filter(number => !byNumber.has(number));
  if (missing.length > 0)
    throw refuse(
      `part ${missing.join(', ')} of ${last} is missing`,
      'Bring the missing part, then run the command again',
    );
  return [...byNumber.entries()].sort(([a], [b]) => a - b).map(([, file]) => file);
}

/** The content of files, one after the other. */
export async function* readParts(files: readonly string[]): AsyncIterable<Buffer> {
  for (const file of files) {
    const stream = createReadStream(file, { highWaterMark: 1 << 20 });
    const chunks = stream[Symbol.asyncIterator]();
    for (;;) {
      const { value, done } = await whileDoing(`Reading ${file}`, () => chunks.next());
      if (done) break;
      yield value as Buffer;
    }
  }
}
