import { Readable } from 'node:stream';
import { createGunzip } from 'node:zlib';
import { DamageError, UsageError } from '../../../core/errors.js';

/** How a dump may be packed, by its first bytes. */
export type Packing = 'gzip' | 'bzip2' | 'zip';

const chunkBytes = 1 << 20;

/** What a file is that cannot be read here, by its first four bytes, and what makes a dump of it. */
const foreign: ReadonlyMap<string, { readonly what: string; readonly remedy: string }> = new Map([
  ['\xfd7zX', { what: 'packed with xz', remedy: 'Unpack it with "unxz", or pack it with gzip' }],
  ['\x28\xb5\x2f\xfd', { what: 'packed with zstd', remedy: 'Unpack it with "unzstd", or pack it with gzip' }],
  ['\x04"M\x18', { what: 'packed with lz4', remedy: 'Unpack it with "unlz4", or pack it with gzip' }],
  ['7z\xbc\xaf', { what: 'a 7z archive', remedy: 'Unpack it and give the SQL file' }],
  ['Rar!', { what: 'a RAR archive', remedy: 'Unpack it and give the SQL file' }],
  ['PGDM', { what: 'a dump of PostgreSQL', remedy: 'Only databases of MariaDB and MySQL can be moved' }],
  ['SQLi', { what: 'a database of SQLite', remedy: 'Only databases of MariaDB and MySQL can be moved' }],
]);
const utf16 = { what: 'text in UTF-16', remedy: 'Take the dump again in UTF-8, or convert it with "iconv"' };

/**
 * @param head at least four bytes of the file, where it has as many
 * @throws DamageError for a packing or a kind of file that cannot be read here
 */
export function packingOf(head: Buffer): Packing | undefined {
  const known = foreign.get(head.toString('latin1', 0, 4));
  const mark = head.toString('latin1', 0, 2);
  const found = known ?? (mark === '\xff\xfe' || mark === '\xfe\xff' ? utf16 : undefined);
  if (found)
    throw new DamageError({ doing: 'Reading the dump', cause: `it is ${found.what}`, remedy: found.remedy });
  if (head[0] === 0x1f && head[1] === 0x8b) return 'gzip';
  const letters = head.toString('latin1', 0, 4);
  if (letters.startsWith('BZh')) return 'bzip2';
  return letters === 'PK\x03\x04' ? 'zip' : undefined;
}

/** Unpacks gzip (RFC 1952), also several members one after the other. */
export async function* gunzipped(packed: AsyncIterable<Buffer>): AsyncIterable<Buffer> {
  const gunzip = createGunzip({ chunkSize: chunkBytes });
  const feeding = (async () => {
    let next = () => {};
    gunzip.on('drain', () => next()).on('close', () => next());
    for await (const chunk of packed) {
      if (gunzip.write(chunk) || gunzip.destroyed) continue;
      await new Promise<void>(room => {
        next = room;
      });
    }
    gunzip.end();
  })().catch(error => gunzip.destroy(error as Error));
  try {
    yield* gunzip as AsyncIterable<Buffer>;
  } finally {
    gunzip.destroy();
    await feeding;
  }
}

/** Unpacks bzip2, also several streams one after the other. @throws DamageError where it is damaged or cut short */
export async function* bunzipped(packed: AsyncIterable<Buffer>): AsyncIterable<Buffer> {
  const { default: bunzip2 } = await import('unbzip2-stream');
  const unpacking = new Readable().wrap(Readable.from(packed).pipe(bunzip2()));
  try {
    yield* unpacking as AsyncIterable<Buffer>;
  } catch (error) {
    throw damaged(`its bzip2 packing is damaged or cut short (${(error as Error).message ?? error})`, error);
  }
}

/**
 * Unpacks the one dump in a zip archive.
 * @param progress receives the bytes of the archive that were read
 * @throws UsageError where several files, or none, could be the dump; DamageError where it is damaged
 */
export async function* unzipped(file: string, progress: (bytes: number) => void): AsyncIterable<Buffer> {
  if (file === '-') {
    throw new UsageError({
      doing: 'Reading the dump from standard input',
      cause: 'it is a zip file, whose table of contents is at its end',
      remedy: 'Name the file itself',
    });
  }
  const { default: yauzl } = await import('yauzl');
  const archive = await new Promise<import('yauzl').ZipFile>((resolve, reject) =>
    yauzl.open(file, { lazyEntries: true, autoClose: false }, (error, opened) =>
      error ? reject(damaged(`its zip packing is damaged (${error.message})`, error)) : resolve(opened),
    ),
  );
  try {
    const entry = await dumpIn(archive, file);
    const stream = await new Promise<Readable>((resolve, reject) =>
      archive.openReadStream(entry, (error, opened) => (error ? reject(error) : resolve(opened))),
    );
    let read = 0;
    for await (const chunk of stream as AsyncIterable<Buffer>) {
      read += chunk.length;
      progress(Math.round((read / Math.max(1, entry.uncompressedSize)) * entry.compressedSize));
      yield chunk;
    }
  } catch (error) {
    if (error instanceof UsageError) throw error;
    throw damaged(`its zip packing is damaged (${(error as Error).message})`, error);
  } finally {
    archive.close();
  }
}

/** The entry that is the dump: the only one whose name ends in `.sql`, or the only one at all. */
async function dumpIn(archive: import('yauzl').ZipFile, file: string): Promise<import('yauzl').Entry> {
  const entries: import('yauzl').Entry[] = [];
  await new Promise<void>((resolve, reject) => {
    archive.on('entry', entry => {
      if (!entry.fileName.endsWith('/')) entries.push(entry);
      archive.readEntry();
    });
    archive.once('end', resolve).once('error', reject);
    archive.readEntry();
  });
  const dumps = entries.filter(({ fileName }) => /\.sql$/i.test(fileName));
  const [only, another] = dumps.length > 0 ? dumps : entries;
  const refuse = (cause: string, remedy: string) =>
    new UsageError({ doing: `Reading the dump ${file}`, cause, remedy });
  if (!only) throw refuse('there is no file in the archive', 'Export the database again');
  if (another)
    throw refuse(
      `${dumps.length || entries.length} files in the archive could be the dump`,
      'Unpack it, and name the one that is',
    );
  if ((only.generalPurposeBitFlag & 1) !== 0)
    throw refuse(
      'it is encrypted',
      'Unpack it with its password first, and delete the unpacked file afterwards',
    );
  return only;
}

function damaged(cause: string, error: unknown): DamageError {
  return new DamageError(
    { doing: 'Reading the dump', cause, remedy: 'Take the dump again, or transfer the file again' },
    { cause: error },
  );
}
