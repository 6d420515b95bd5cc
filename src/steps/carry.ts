import { createHash } from 'node:crypto';
import { type ByteString, textOf } from '../core/bytes.js';
import { DamageError, PorterError } from '../core/errors.js';
import type { FileEntry } from '../core/files/entries.js';
import type { FilesEnd, FileToWrite } from '../ends/files/files-end.js';
import { LinkLost } from '../ends/ftp/session.js';
import { inTurns } from '../ends/in-turns.js';

/** Whole trees go as a stream from this many files on. */
const fewest = 8;
const streamTries = 3;

/** How files were carried: as one stream through a command at the far side, or one by one, several at once. */
export type Way = 'as one stream' | 'file by file';

/**
 * Carries files from an end to another, and sees to it that what arrived is what was read.
 * @param done is told of each file that was carried
 * @returns the SHA-256 of what was read, by path, and the way that was taken where a network lies between
 * @throws DamageError where a file does not arrive as it was read
 */
export async function carry(
  from: FilesEnd,
  to: FilesEnd,
  entries: readonly FileEntry[],
  signal: AbortSignal,
  done: (entry: FileEntry) => void,
): Promise<{ sums: Map<ByteString, string>; way: Way | undefined }> {
  const sums = new Map<ByteString, string>();
  const carried = (entry: FileEntry, sum: string) => {
    if (!sums.has(entry.path)) done(entry);
    sums.set(entry.path, sum);
  };
  const rest = () => entries.filter(({ path }) => !sums.has(path));
  let way: Way = 'file by file';
  for (let attempt = 0; attempt < streamTries && rest().length >= fewest; attempt++) {
    const before = sums.size;
    const streamed =
      (await readStream(from, to, rest(), signal, carried)) ||
      (await writeStream(from, to, rest(), signal, carried));
    if (!streamed) break;
    way = 'as one stream';
    if (sums.size === before) break;
  }
  await inTurns(rest(), Math.max(from.atOnce, to.atOnce), signal, async entry => {
    carried(entry, await copyAgain(from, to, entry));
  });
  if (from.far && way === 'as one stream') {
    // A file that changed while the stream passed may have come half-changed or padded; it is read once more.
    const there = await from.checksums([...sums.keys()], signal);
    for (const entry of entries) {
      const sum = there.get(entry.path);
      if (sum !== undefined && sum !== sums.get(entry.path))
        sums.set(entry.path, await copyAgain(from, to, entry));
    }
  }
  if (to.far) await verifyArrived(from, to, entries, sums, signal);
  return { sums, way: from.far || to.far ? way : undefined };
}

/** Takes what it can of files as one stream; gives whether the end has such a thing. */
async function readStream(
  from: FilesEnd,
  to: FilesEnd,
  entries: readonly FileEntry[],
  signal: AbortSignal,
  carried: (entry: FileEntry, sum: string) => void,
): Promise<boolean> {
  const wanted = new Map(entries.map(entry => [entry.path, entry]));
  try {
    const stream = await from.readMany?.([...wanted.keys()], signal);
    if (!stream) return false;
    const writing = new Set<Promise<void>>();
    const write = async (entry: FileEntry, content: AsyncIterable<Buffer>) => {
      const hashed = new Hashed(content);
      await to.write(entry.path, hashed, entry);
      carried(entry, hashed.sum());
    };
    for await (const { path, content } of stream) {
      const entry = wanted.get(path);
      // Only what was asked for is taken, whatever the far side sends.
      if (!entry) continue;
      if (entry.size > smallBytes) {
        await write(entry, content);
        continue;
      }
      // Small ones are written while the next come.
      const whole = await wholeOf(content);
      const written: Promise<void> = write(entry, whole).finally(() => writing.delete(written));
      written.catch(() => {});
      writing.add(written);
      if (writing.size >= to.atOnce) await Promise.race(writing);
    }
    await Promise.all(writing);
  } catch (error) {
    signal.throwIfAborted();
    if (error instanceof PorterError) throw error;
    // The link was lost; what did not come yet is asked for again.
  }
  return true;
}

const smallBytes = 256 * 1024;

async function wholeOf(content: AsyncIterable<Buffer>): Promise<AsyncIterable<Buffer>> {
  const chunks: Buffer[] = [];
  for await (const chunk of content) chunks.push(chunk);
  return (async function* () {
    yield* chunks;
  })();
}

/** Puts files as one stream; gives whether the end can take one. */
async function writeStream(
  from: FilesEnd,
  to: FilesEnd,
  entries: readonly FileEntry[],
  signal: AbortSignal,
  carried: (entry: FileEntry, sum: string) => void,
): Promise<boolean> {
  if (!to.writeMany) return false;
  const sent: [FileEntry, Hashed][] = [];
  async function* files(): AsyncIterable<FileToWrite> {
    for (const entry of entries) {
      const content = new Hashed(from.read(entry.path));
      sent.push([entry, content]);
      yield { entry, content };
    }
  }
  try {
    if (!(await to.writeMany(files(), signal))) return false;
  } catch (error) {
    signal.throwIfAborted();
    const whole = sent.filter(([, { ended }]) => ended);
    const there = await to.checksums(
      whole.map(([{ path }]) => path),
      signal,
    );
    for (const [entry, content] of whole)
      if (there.get(entry.path) === content.sum()) carried(entry, content.sum());
    if (error instanceof DamageError) throw error;
    return true;
  }
  for (const [entry, content] of sent) carried(entry, content.sum());
  return true;
}

/** Compares what lies at the far side with what was read; what differs is carried once more. */
async function verifyArrived(
  from: FilesEnd,
  to: FilesEnd,
  entries: readonly FileEntry[],
  sums: Map<ByteString, string>,
  signal: AbortSignal,
): Promise<void> {
  const differing = async () => {
    const there = await to.checksums(
      entries.map(({ path }) => path),
      signal,
    );
    return entries.filter(({ path }) => there.get(path) !== sums.get(path));
  };
  const wrong = await differing();
  if (wrong.length === 0) return;
  for (const entry of wrong) sums.set(entry.path, await copyAgain(from, to, entry));
  const [still] = await differing();
  if (!still) return;
  throw new DamageError({
    doing: `Writing ${to.place}/${textOf(still.path)}`,
    cause: 'what lies there is not what was sent',
    remedy: 'Check the far side’s disk, then run the command again',
  });
}

/** Content whose checksum is taken as it passes. */
class Hashed implements AsyncIterable<Buffer> {
  ended = false;
  private readonly content: AsyncIterable<Buffer>;
  private readonly hash = createHash('sha256');
  private told: string | undefined;

  constructor(content: AsyncIterable<Buffer>) {
    this.content = content;
  }

  async *[Symbol.asyncIterator](): AsyncIterator<Buffer> {
    for await (const chunk of this.content) {
      this.hash.update(chunk);
      yield chunk;
    }
    this.ended = true;
  }

  sum(): string {
    this.told ??= this.hash.digest('hex');
    return this.told;
  }
}

/** Copies a file with its mode and time; gives its SHA-256. */
export async function copyChecked(from: FilesEnd, to: FilesEnd, entry: FileEntry): Promise<string> {
  const content = new Hashed(from.read(entry.path));
  await to.write(entry.path, content, entry);
  return content.sum();
}

/** Copies a file, and again from its beginning where a link was lost that cannot go on in the middle. */
async function copyAgain(from: FilesEnd, to: FilesEnd, entry: FileEntry): Promise<string> {
  for (let attempt = 0; ; attempt++) {
    try {
      return await copyChecked(from, to, entry);
    } catch (error) {
      if (!(error instanceof LinkLost) || attempt >= linkTries) throw error;
    }
  }
}

const linkTries = 6;

/** Which of some files lie whole at an end already: of the same size and time (of a second, over a network) and sum. */
export async function alreadyThere(
  end: FilesEnd,
  wanted: readonly (FileEntry & { readonly sha256?: string | undefined })[],
  there: ReadonlyMap<ByteString, FileEntry>,
  signal: AbortSignal,
): Promise<Set<ByteString>> {
  const alike = wanted.filter(({ path, size, mtime }) => {
    const here = there.get(path);
    const step = end.far ? 1000 : 1;
    return here?.type === 'file' && here.size === size && Math.abs(here.mtime - mtime) < step;
  });
  const sums = await end.checksums(
    alike.map(({ path }) => path),
    signal,
  );
  return new Set(alike.filter(({ path, sha256 }) => sums.get(path) === sha256).map(({ path }) => path));
}

/** Removes what an earlier run put there and is not wanted any more, or is wanted as something else; gives what is left. */
export async function removeOthers(
  files: FilesEnd,
  wanted: readonly FileEntry[],
  signal: AbortSignal,
): Promise<Map<ByteString, FileEntry>> {
  const there = new Map<ByteString, FileEntry>();
  if (!(await files.isThere())) return there;
  const types = new Map<string, FileEntry['type']>(wanted.map(({ path, type }) => [path, type]));
  const others: ByteString[] = [];
  const skip = ({ path, type }: FileEntry) => {
    if (types.get(path) === type) return false;
    others.push(path);
    return true;
  };
  for await (const entry of files.list(skip, signal)) there.set(entry.path, entry);
  for (const path of others) await files.remove(path);
  return there;
}
