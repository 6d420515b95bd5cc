import { createReadStream } from 'node:fs';
import { open } from 'node:fs/promises';
import type { Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { DamageError, UsageError } from '../../core/errors.js';
import { asTrouble, telling } from '../trouble.js';

const chunkBytes = 1 << 20;

/** What takes the bytes of a dump: a scanner, a survey, a rewriting. */
export interface DumpReader {
  push(chunk: Buffer): void;
  finish(): void;
}

/** Several readers that are given the same dump. */
export function together(...readers: readonly DumpReader[]): DumpReader {
  return {
    push: chunk => {
      for (const reader of readers) reader.push(chunk);
    },
    finish: () => {
      for (const reader of readers) reader.finish();
    },
  };
}

/** How far the reading of a dump has come, in bytes of the file as it lies there. */
export type DumpProgress = (bytesRead: number) => void;

/**
 * Feeds a dump to a reader, unpacking it where its first bytes say gzip.
 * @param file a path, or `-` for standard input
 * @throws DamageError when it is damaged, EndError when it is not there
 */
export async function readDump(
  file: string,
  reader: DumpReader,
  options: { signal: AbortSignal; progress?: DumpProgress; after?: () => Promise<void> },
): Promise<void> {
  const name = file === '-' ? 'standard input' : file;
  try {
    for await (const chunk of dumpChunks(file, options.progress)) {
      options.signal.throwIfAborted();
      reader.push(chunk);
      if (options.after) await options.after();
    }
    reader.finish();
    if (options.after) await options.after();
  } catch (error) {
    throw namedDamage(error, name);
  }
}

/** The bytes of a dump, unpacked. */
async function* dumpChunks(file: string, progress?: DumpProgress): AsyncIterable<Buffer> {
  const source: Readable =
    file === '-' ? process.stdin : createReadStream(file, { highWaterMark: chunkBytes });
  let read = 0;
  let first = true;
  let gunzip: ReturnType<typeof createGunzip> | undefined;
  const raw = (async function* () {
    for await (const chunk of source as AsyncIterable<Buffer>) {
      read += chunk.length;
      progress?.(read);
      yield chunk;
    }
  })();
  for await (const chunk of raw) {
    if (first) {
      first = false;
      refuseOtherPackings(chunk, file);
      if (isGzip(chunk)) {
        gunzip = createGunzip({ chunkSize: chunkBytes });
        yield* gunzipped(gunzip, chunk, raw);
        return;
      }
    }
    yield chunk;
  }
  if (first) {
    throw new DamageError({ doing: 'Reading the dump', cause: 'it is empty', remedy: 'Take the dump again' });
  }
}

async function* gunzipped(
  gunzip: ReturnType<typeof createGunzip>,
  head: Buffer,
  rest: AsyncIterable<Buffer>,
): AsyncIterable<Buffer> {
  const feeding = (async () => {
    let next = () => {};
    gunzip.on('drain', () => next()).on('close', () => next());
    const give = async (chunk: Buffer) => {
      if (!gunzip.write(chunk) && !gunzip.destroyed)
        await new Promise<void>(room => {
          next = room;
        });
    };
    await give(head);
    for await (const chunk of rest) await give(chunk);
    gunzip.end();
  })().catch(error => gunzip.destroy(error as Error));
  try {
    yield* gunzip as AsyncIterable<Buffer>;
  } finally {
    gunzip.destroy();
    await feeding;
  }
}

/** Whether a file begins as gzip does (RFC 1952, section 2.3.1). */
export async function isPacked(file: string): Promise<boolean> {
  return telling(`Reading the dump ${file}`, async () => {
    const handle = await open(file);
    try {
      return isGzip((await handle.read(Buffer.alloc(2), 0, 2, 0)).buffer);
    } finally {
      await handle.close();
    }
  });
}

function isGzip(head: Buffer): boolean {
  return head[0] === 0x1f && head[1] === 0x8b;
}

function refuseOtherPackings(head: Buffer, file: string): void {
  const packing =
    head.subarray(0, 4).toString('latin1') === 'PK\x03\x04'
      ? 'zip'
      : head.subarray(0, 3).toString('latin1') === 'BZh'
        ? 'bzip2'
        : undefined;
  if (!packing) return;
  throw new UsageError({
    doing: `Reading the dump ${file}`,
    cause: `it is packed with ${packing}, which this version does not open`,
    remedy: 'Unpack it first, or pack it with gzip',
  });
}

/** Damage told by the core or by zlib, with the file's name put to it. */
function namedDamage(error: unknown, name: string): unknown {
  if (error instanceof DamageError) {
    const { cause, remedy } = error.told;
    return new DamageError({ doing: `Reading the dump ${name}`, cause, remedy }, { cause: error });
  }
  const { code } = error as NodeJS.ErrnoException;
  if (typeof code === 'string' && code.startsWith('Z_')) {
    const cause =
      code === 'Z_BUF_ERROR'
        ? 'its gzip packing is cut short'
        : `its gzip packing is damaged (${(error as Error).message})`;
    return new DamageError(
      { doing: `Reading the dump ${name}`, cause, remedy: 'Take the dump again, or carry the file again' },
      { cause: error },
    );
  }
  return asTrouble(error, `Reading the dump ${name}`);
}
