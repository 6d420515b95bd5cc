import { createReadStream } from 'node:fs';
import { open, stat } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { DamageError } from '../../../core/errors.js';
import { roomBefore, type Workbench } from '../../../core/kernels/workbench.js';
import type { ManySearch } from '../../../core/search/many.js';
import { sizeText } from '../../../core/text/sizes.js';
import { toPorterError, whileDoing } from '../../system-errors.js';
import { bunzipped, gunzipped, type Packing, packingOf, unzipped } from '../io/decompress.js';
import { blocksOf } from './read-ahead.js';

const chunkBytes = 1 << 19;

/** What takes the bytes of a dump: a scanner, a survey, a rewriting. */
export interface DumpReader {
  /**
   * Takes a chunk, which may be changed after the call.
   * @param before how much room there is before it, where it is a block of the workbench; 0 where it is not
   */
  push(chunk: Buffer, before?: number | undefined): void;
  finish(): void;
}

/** Several readers that are given the same dump. */
export function together(...readers: readonly DumpReader[]): DumpReader {
  return {
    push: (chunk, before) => {
      for (const reader of readers) reader.push(chunk, before);
    },
    finish: () => {
      for (const reader of readers) reader.finish();
    },
  };
}

/** How far the reading of a dump has come, in bytes of the file as it is there. */
export type DumpProgress = (bytesRead: number) => void;

/**
 * Feeds a dump to a reader, unpacking it where its first bytes say gzip.
 * @param file a path, or `-` for standard input
 * @throws DamageError when it is damaged, EndError when it is not there
 */
export async function readDump(
  bench: Workbench,
  file: string,
  reader: DumpReader,
  options: {
    signal: AbortSignal;
    progress?: DumpProgress;
    after?: () => Promise<void>;
    /** Bytes that it may have unpacked. Where nothing is said, so many times what it has packed are too many. */
    unpackedLimit?: number | undefined;
    /** What the reader looks for in all of it. */
    search?: ManySearch | undefined;
  },
): Promise<void> {
  const name = file === '-' ? 'standard input' : file;
  let packed = 0;
  let unpacked = 0;
  const progress: DumpProgress = read => {
    packed = read;
    options.progress?.(read);
  };
  const took = (bytes: number) => {
    options.signal.throwIfAborted();
    unpacked += bytes;
    refuseBomb(unpacked, packed, options.unpackedLimit);
  };
  try {
    const blocks = (await isPlainFile(file)) ? bench.incoming.take() : undefined;
    try {
      for await (const chunk of blocks
        ? blocksOf(bench, file, blocks, progress, options.search)
        : dumpChunks(file, progress)) {
        took(chunk.length);
        reader.push(chunk, blocks && roomBefore);
        if (options.after) await options.after();
      }
    } finally {
      if (blocks) bench.incoming.giveBack();
    }
    reader.finish();
    if (options.after) await options.after();
  } catch (error) {
    throw namedDamage(error, name);
  }
}

/** Dumps pack to a twentieth, to a hundredth where their rows are all alike. */
const mostTimes = 250;
const alwaysFine = 1 << 30;

/** @throws DamageError for a file that is made to fill a disk when it is unpacked */
function refuseBomb(unpacked: number, packed: number, limit: number | undefined): void {
  if (unpacked <= (limit ?? Math.max(alwaysFine, packed * mostTimes))) return;
  throw new DamageError({
    doing: 'Reading the dump',
    cause:
      limit === undefined
        ? `it unpacks to more than ${mostTimes} times its size (${sizeText(unpacked)} of ${sizeText(packed)} so far), as what is made to fill a disk does`
        : `it unpacks to more than ${sizeText(limit)}`,
    remedy:
      'If it is right nevertheless, unpack it first, or give --unpacked-limit SIZE when rewriting it on its own',
  });
}

/** The bytes of a dump, unpacked. */
export async function* dumpChunks(file: string, progress?: DumpProgress): AsyncIterable<Buffer> {
  const source: Readable =
    file === '-' ? process.stdin : createReadStream(file, { highWaterMark: chunkBytes });
  const chunks = (source as AsyncIterable<Buffer>)[Symbol.asyncIterator]();
  const first = await chunks.next();
  if (first.done) throw empty();
  const raw = (async function* () {
    let read = 0;
    for (let next: IteratorResult<Buffer> = first; !next.done; next = await chunks.next()) {
      read += next.value.length;
      progress?.(read);
      yield next.value;
    }
  })();
  switch (packingOf(first.value)) {
    case 'gzip':
      return yield* gunzipped(raw);
    case 'bzip2':
      return yield* bunzipped(raw);
    case 'zip':
      source.destroy();
      return yield* unzipped(file, progress ?? (() => {}));
    case undefined:
      yield* raw;
  }
}

/** Whether a dump is in a file that can be read anywhere, and is not packed. */
async function isPlainFile(file: string): Promise<boolean> {
  if (file === '-' || !(await whileDoing(`Reading the dump ${file}`, () => stat(file))).isFile())
    return false;
  return (await packingOfFile(file)) === undefined;
}

/** Whether a file begins as gzip does (RFC 1952, section 2.3.1). */
export async function isPacked(file: string): Promise<boolean> {
  return (await packingOfFile(file)) === 'gzip';
}

/** @throws DamageError where there is nothing in the file */
async function packingOfFile(file: string): Promise<Packing | undefined> {
  return whileDoing(`Reading the dump ${file}`, async () => {
    const handle = await open(file);
    try {
      const { buffer, bytesRead } = await handle.read(Buffer.alloc(4), 0, 4, 0);
      if (bytesRead === 0) throw empty();
      return packingOf(buffer);
    } finally {
      await handle.close();
    }
  });
}

function empty(): DamageError {
  return new DamageError({ doing: 'Reading the dump', cause: 'it is empty', remedy: 'Take the dump again' });
}

/** Damage reported by the core or by zlib, with the file's name put to it. */
function namedDamage(error: unknown, name: string): unknown {
  if (error instanceof DamageError) {
    const { cause, remedy } = error.details;
    return new DamageError({ doing: `Reading the dump ${name}`, cause, remedy }, { cause: error });
  }
  const { code } = error as NodeJS.ErrnoException;
  if (typeof code === 'string' && code.startsWith('Z_')) {
    const cause =
      code === 'Z_BUF_ERROR'
        ? 'its gzip packing is cut short'
        : `its gzip packing is damaged (${(error as Error).message})`;
    return new DamageError(
      { doing: `Reading the dump ${name}`, cause, remedy: 'Take the dump again, or transfer the file again' },
      { cause: error },
    );
  }
  return toPorterError(error, `Reading the dump ${name}`);
}
