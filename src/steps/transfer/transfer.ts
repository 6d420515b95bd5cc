import { createHash, hash } from 'node:crypto';
import pMap from 'p-map';
import { type ByteString, textOf } from '../../core/bytes.js';
import { DamageError, EndError, PartWayError, PorterError, UsageError } from '../../core/errors.js';
import type { FileEntry } from '../../core/files/entries.js';
import { sizeText } from '../../core/text/sizes.js';
import { ConnectionLost } from '../../ends/connection-lost.js';
import { type Content, chunksOf, type FileToWrite } from '../../ends/content.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import { isFull } from '../../ends/system-errors.js';
import { type RateLimit, unlimitedRate } from '../move/rate-limit.js';

/** Whole trees go as a stream from this many files on. */
const fewest = 8;
/** A file is given up when the connection was lost so often without any of it arriving. */
const connectionTries = 5;
/** A part of a file at least so large is resumed. */
export const worthResuming = 64 * 1024;
/** Files up to this size are held in memory while they are written. */
const smallBytes = 256 * 1024;

const nothing = Buffer.alloc(0);

/** How files were transferred: as a stream through a command at the far side, or one by one, several at once. */
export type TransferMethod = 'as one stream' | 'file by file' | 'from host to host';

/** Files that are to be transferred from an end to another. */
export interface TransferJob {
  readonly from: FilesEnd;
  readonly to: FilesEnd;
  readonly signal: AbortSignal;
  /** How many bytes of a file are at `to` already, for those that an earlier run had begun with. */
  readonly begun: ReadonlyMap<ByteString, number>;
  /** Is called with a large file before any of it is written. */
  readonly begins?: ((entry: FileEntry) => void) | undefined;
  readonly rate: RateLimit;
  /** Is called with bytes of a large file as they pass, and of each file that was transferred. */
  readonly progress: { passed(entry: FileEntry, bytes: number): void; done(entry: FileEntry): void };
}

/**
 * Transfers files. What comes from afar as a stream is compared with checksums computed there, and read once more
 * where it differs.
 * @returns the SHA-256 of each file's content as it was read, by path, and the way that was taken over a network
 */
export async function transferFiles(
  job: TransferJob,
  entries: readonly FileEntry[],
): Promise<{ sums: Map<ByteString, string>; way: TransferMethod | undefined }> {
  const { from, to, signal, progress } = job;
  const begun = new Map(job.begun);
  const sums = new Map<ByteString, string>();
  const transferred = (entry: FileEntry, sum: string) => {
    if (!sums.has(entry.path)) progress.done(entry);
    sums.set(entry.path, sum);
  };
  const ordered = [...entries].sort((a, b) => a.size - b.size);
  const left = () => ordered.filter(({ path }) => !sums.has(path) && !begun.has(path));
  // Computed while the stream passes: a file that changes meanwhile differs from it either way.
  const sumsAhead = left().length >= fewest ? checksumsAhead(from, ordered, signal) : undefined;
  // Its error is handled below.
  sumsAhead?.catch(() => {});
  let way: TransferMethod = 'file by file';
  while (left().length >= fewest) {
    const before = sums.size;
    const started = new Set<FileEntry>();
    const shares = inShares(left(), Math.min(job.rate.streams, Math.max(from.streams, to.streams)));
    const streams = shares.map(
      async share =>
        (await readStream(job, share, started, transferred)) || writeStream(job, share, started, transferred),
    );
    if (!(await allOf(streams)).includes(true)) break;
    way = 'as one stream';
    // What a lost connection cut off is resumed.
    await noteBegun(
      job,
      [...started].filter(({ path }) => !sums.has(path)),
      begun,
    );
    if (sums.size === before) break;
  }
  const rest = ordered.filter(({ path }) => !sums.has(path));
  await pMap(
    rest,
    async entry => {
      transferred(entry, await copy(job, entry, begun.get(entry.path) ?? 0));
    },
    { concurrency: Math.min(job.rate.atOnce, Math.max(from.atOnce, to.atOnce)), signal },
  );
  if (way === 'as one stream') {
    const sumsThere = await sumsAhead;
    for (const entry of entries) {
      const there = sumsThere?.get(entry.path);
      // A file that changed while it passed may have come half-changed or padded.
      if (there !== undefined && there !== sums.get(entry.path))
        sums.set(entry.path, await copy(job, entry, 0));
    }
  }
  return { sums, way: sums.size > 0 && (from.far || to.far) ? way : undefined };
}

/** Notes which files are there in part, and how much of each. */
async function noteBegun(
  { to, signal }: TransferJob,
  started: readonly FileEntry[],
  begun: Map<ByteString, number>,
): Promise<void> {
  await pMap(
    started.filter(({ size }) => size >= worthResuming),
    async ({ path, size }) => {
      const there = await to.entry(path);
      if (there?.type === 'file' && there.size > 0 && there.size < size) begun.set(path, there.size);
    },
    { concurrency: to.atOnce, signal },
  );
}

/** Waits for all, also where one fails, so that nothing continues unnoticed. */
async function allOf<T>(work: readonly Promise<T>[]): Promise<T[]> {
  await Promise.allSettled(work);
  return Promise.all(work);
}

async function checksumsAhead(
  from: FilesEnd,
  entries: readonly FileEntry[],
  signal: AbortSignal,
): Promise<ReadonlyMap<ByteString, string>> {
  if (!from.far || !(await from.runsCommands())) return new Map();
  return from.checksums(
    entries.map(({ path }) => path),
    signal,
  );
}

/** Files in shares of about the same number of bytes. */
function inShares(entries: readonly FileEntry[], most: number): FileEntry[][] {
  const shares = Array.from({ length: Math.min(most, Math.ceil(entries.length / fewest)) }, () => ({
    bytes: 0,
    entries: [] as FileEntry[],
  }));
  for (const entry of entries) {
    const least = shares.reduce((a, b) => (b.bytes < a.bytes ? b : a));
    // A file's header counts as well.
    least.bytes += entry.size + 512;
    least.entries.push(entry);
  }
  return shares.map(share => share.entries).filter(share => share.length > 0);
}

type Transferred = (entry: FileEntry, sum: string) => void;

/** Takes what it can of files as one stream; gives whether the end has such a thing. */
async function readStream(
  job: TransferJob,
  entries: readonly FileEntry[],
  started: Set<FileEntry>,
  transferred: Transferred,
): Promise<boolean> {
  const { from, to, signal } = job;
  const wanted = new Map(entries.map(entry => [entry.path, entry]));
  const writing = new Set<Promise<void>>();
  let oneIsDone = () => {};
  try {
    const stream = await from.readMany?.([...wanted.keys()], signal);
    if (!stream) return false;
    const write = async (entry: FileEntry, content: Content, sum: () => string) => {
      await to.write(entry.path, content, entry);
      transferred(entry, sum());
    };
    for await (const { path, content } of stream) {
      const entry = wanted.get(path);
      // Only what was asked for is taken, whatever the far side sends.
      if (!entry) continue;
      started.add(entry);
      if (entry.size > smallBytes) {
        job.begins?.(entry);
        const hashed = new Hashed(content, entry, job);
        await write(entry, hashed.content, () => hashed.sum());
        continue;
      }
      // Small ones are written while the next come.
      const whole = await wholeOf(content);
      await job.rate.take(whole.length);
      const written: Promise<void> = write(entry, whole, () => hash('sha256', whole)).finally(() => {
        writing.delete(written);
        oneIsDone();
      });
      written.catch(() => {});
      writing.add(written);
      if (writing.size < to.atOnce) continue;
      await new Promise<void>(resolve => {
        oneIsDone = resolve;
      });
    }
    await Promise.all(writing);
  } catch (error) {
    signal.throwIfAborted();
    if (error instanceof PorterError) throw error;
    // The connection was lost; what did not come yet is asked for again, but nothing that is still being written.
    await Promise.allSettled(writing);
  }
  return true;
}

async function wholeOf(content: AsyncIterable<Buffer>): Promise<Buffer> {
  const chunks: Buffer[] = [];
  for await (const chunk of content) chunks.push(chunk);
  return chunks.length === 1 ? chunks[0]! : Buffer.concat(chunks);
}

/** Puts files as one stream; gives whether the end can take one. */
async function writeStream(
  job: TransferJob,
  entries: readonly FileEntry[],
  started: Set<FileEntry>,
  transferred: Transferred,
): Promise<boolean> {
  const { from, to, signal } = job;
  if (!to.writeMany) return false;
  const sent: [FileEntry, Hashed][] = [];
  async function* files(): AsyncIterable<FileToWrite> {
    for (const entry of entries) {
      const hashed = new Hashed(from.read(entry.path), entry, job);
      sent.push([entry, hashed]);
      started.add(entry);
      yield { entry, content: hashed.content };
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
      if (there.get(entry.path) === content.sum()) transferred(entry, content.sum());
    // Whatever else the command stumbled over, file by file may work or will say why.
    if (isFull(error) || error instanceof UsageError || error instanceof EndError) throw error;
    return true;
  }
  for (const [entry, content] of sent) transferred(entry, content.sum());
  return true;
}

/** Content whose checksum is taken as it passes. */
class Hashed {
  ended = false;
  /** Those that passed. */
  bytes = 0;
  readonly content: AsyncIterable<Buffer>;
  private readonly hash = createHash('sha256');
  private digest: string | undefined;

  constructor(content: AsyncIterable<Buffer>, entry: FileEntry, how: Pick<TransferJob, 'progress' | 'rate'>) {
    this.content = this.passing(content, entry, how);
  }

  /** Bytes that are at the other end already, and count as well. */
  async add(content: AsyncIterable<Buffer>): Promise<void> {
    for await (const chunk of content) this.hash.update(chunk);
  }

  sum(): string {
    this.digest ??= this.hash.digest('hex');
    return this.digest;
  }

  private async *passing(
    content: AsyncIterable<Buffer>,
    entry: FileEntry,
    { progress, rate }: Pick<TransferJob, 'progress' | 'rate'>,
  ): AsyncIterable<Buffer> {
    for await (const chunk of content) {
      await rate.take(chunk.length);
      this.hash.update(chunk);
      this.bytes += chunk.length;
      progress.passed(entry, chunk.length);
      yield chunk;
    }
    this.ended = true;
  }
}

/** Copies a file with its mode and time; gives its SHA-256. */
export async function copyChecked(from: FilesEnd, to: FilesEnd, entry: FileEntry): Promise<string> {
  const silent = { passed: () => {}, done: () => {} };
  return copyFrom({ from, to, progress: silent, rate: unlimitedRate }, entry, 0);
}

/** Copies a file from an offset on, and continues where a link was lost. */
export async function copy(
  job: Pick<TransferJob, 'from' | 'to' | 'progress' | 'rate' | 'begins'>,
  entry: FileEntry,
  offset: number,
): Promise<string> {
  let at = job.to.canResume ? offset : 0;
  for (let idle = 0; ; ) {
    try {
      return await copyFrom(job, entry, at);
    } catch (error) {
      if (!(error instanceof ConnectionLost)) throw error;
      const there = job.to.far && job.to.canResume ? await job.to.entry(entry.path) : undefined;
      const size = there?.type === 'file' && there.size <= entry.size ? there.size : 0;
      idle = size > at ? 0 : idle + 1;
      at = size;
      if (idle < connectionTries) continue;
      throw new PartWayError(
        {
          doing: `Transferring ${textOf(entry.path)} to ${job.to.place}`,
          cause:
            error instanceof CutShort
              ? `the server ends it early each time, as if that was all (${error.message})`
              : 'the connection is lost each time',
          remedy:
            'Run the command again; if it ends at the same file, the disk or the quota there may be full',
        },
        { cause: error },
      );
    }
  }
}

async function copyFrom(
  { from, to, progress, rate, begins }: Pick<TransferJob, 'from' | 'to' | 'progress' | 'rate' | 'begins'>,
  entry: FileEntry,
  offset: number,
): Promise<string> {
  // Of a file that is there but for its mode and time, nothing is asked for.
  const rest = offset > 0 && offset === entry.size ? nothing : from.read(entry.path, offset);
  const hashed = new Hashed(upTo(from, entry, offset, chunksOf(rest)), entry, { progress, rate });
  if (offset === 0 && entry.size >= worthResuming) begins?.(entry);
  if (offset > 0) {
    // What is there already is read where that is near.
    await hashed.add(firstOf((to.far ? from : to).read(entry.path), offset));
    progress.passed(entry, offset);
  }
  await to.write(entry.path, hashed.content, entry, offset);
  const bytes = offset + hashed.bytes;
  // Where it is another length than was listed, it may have changed since; a second look tells.
  if (bytes !== entry.size && (await from.entry(entry.path))?.size !== bytes)
    throw new CutShort(`${bytes} of ${entry.size} bytes came`);
  return hashed.sum();
}

/** An end said that a file was whole, and less came than it has. */
class CutShort extends ConnectionLost {}

/** More than was listed by so many bytes is looked at: a file may grow while it is read. */
const mayGrow = 1 << 20;

/** Content that ends with an error where more comes than its end says that there is. */
async function* upTo(
  from: FilesEnd,
  entry: FileEntry,
  offset: number,
  content: AsyncIterable<Buffer>,
): AsyncIterable<Buffer> {
  let bytes = offset;
  let most = entry.size + mayGrow;
  for await (const chunk of content) {
    bytes += chunk.length;
    if (bytes > most) {
      const size = (await from.entry(entry.path))?.size ?? 0;
      most = size + mayGrow;
      if (bytes > most)
        throw new DamageError({
          doing: `Reading ${textOf(entry.path)} in ${from.place}`,
          cause: `more comes than the ${sizeText(size)} that it is said to have`,
          remedy: 'Leave it out (take.files.without), and ask the host what it is',
        });
    }
    yield chunk;
  }
}

async function* firstOf(content: Content, bytes: number): AsyncIterable<Buffer> {
  let left = bytes;
  for await (const chunk of chunksOf(content)) {
    yield chunk.subarray(0, left);
    left -= chunk.length;
    if (left <= 0) return;
  }
}
