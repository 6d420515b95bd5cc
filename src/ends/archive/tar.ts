import { createReadStream } from 'node:fs';
import { stat } from 'node:fs/promises';
import { pipeline } from 'node:stream/promises';
import { extract, pack } from 'tar-stream';
import { asBytes, type ByteString, bytesOfText, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import { ArchiveNames } from '../../core/files/archive-names.js';
import type { CheckedEntry } from '../../core/files/entries.js';
import type { FilesEnd } from '../files/files-end.js';
import { LocalFiles } from '../files/local.js';
import type { Crate, CrateManifest } from '../move-folder/crate.js';

/** The folder for files whose names are not UTF-8 and cannot be in a POSIX tar; they are named by checksum. */
const byChecksum = 'files.by-checksum';

/** The lists of the crate and the folder that each is of. */
export const lists = { 'files.ndjson': 'files', 'above.ndjson': 'above' } as const;

/**
 * The crate as one POSIX tar (pax, IEEE Std 1003.1): the manifest first, then its parts and files.
 * @param done is called with each file
 */
export async function* tarOf(
  crate: Crate,
  manifest: CrateManifest,
  done: (entry: CheckedEntry) => void,
): AsyncIterable<Buffer> {
  const packed = pack();
  const filled = fill(crate, manifest, packed, done).then(
    () => packed.finalize(),
    error => packed.destroy(error as Error),
  );
  yield* packed as unknown as AsyncIterable<Buffer>;
  await filled;
}

async function fill(
  crate: Crate,
  manifest: CrateManifest,
  packed: ReturnType<typeof pack>,
  done: (entry: CheckedEntry) => void,
): Promise<void> {
  const put = async (name: string, file: string) => {
    const { size, mtime } = await stat(file);
    await pipeline(createReadStream(file), packed.entry({ name, size, mtime, mode: 0o644 }) as never);
  };
  await put('crate.json', crate.at('crate.json'));
  for (const name of Object.keys(manifest.parts)) await put(name, crate.at(name));
  for (const [list, folder] of Object.entries(lists)) {
    const end = new LocalFiles(crate.at(folder), { ownerOnly: true });
    if (!manifest.parts[list]) continue;
    for await (const entry of crate.entries(list)) {
      await putEntry(packed, folder, end, entry);
      done(entry);
    }
  }
}

async function putEntry(
  packed: ReturnType<typeof pack>,
  folder: string,
  end: FilesEnd,
  entry: CheckedEntry,
): Promise<void> {
  const { path, type, size, mode, to } = entry;
  const isReadable = isText(path);
  const name = textOf(archivedName(folder, entry));
  const mtime = new Date(entry.mtime);
  if (type === 'file') {
    const file = packed.entry({ name, size, mode, mtime }) as unknown as NodeJS.WritableStream;
    await pipeline(end.read(path), file);
  } else if (isReadable && type === 'folder')
    packed.entry({ name: `${name}/`, type: 'directory', mode, mtime });
  else if (isReadable) packed.entry({ name, type: 'symlink', linkname: textOf(to!), mode, mtime });
}

/** The name of a file in an archived crate: one that is no UTF-8 goes by its checksum, which the lists know. */
export function archivedName(
  folder: string,
  { path, sha256 }: Pick<CheckedEntry, 'path' | 'sha256'>,
): ByteString {
  return asBytes(isText(path) ? `${folder}/${path}` : `${byChecksum}/${sha256}`);
}

function isText(path: ByteString): boolean {
  return bytesOfText(textOf(path)) === path;
}

/** What may be at the top of an archived crate. */
const known =
  /^(?:crate\.json|files\.ndjson|above\.ndjson|database\.sql\.gz|files|above|files\.by-checksum)$/;

/**
 * Unpacks an archived crate, which is not trusted, into an empty folder. Only what the lists name is put under `files`;
 * it is verified later.
 * @throws DamageError for anything that a crate would not hold, or that leads out of the folder
 */
export async function unpackCrate(
  content: AsyncIterable<Buffer>,
  into: FilesEnd,
  archive: string,
  signal: AbortSignal,
): Promise<void> {
  const names = new ArchiveNames();
  const unpacked = extract();
  const read = pipeline(content, unpacked, { signal });
  read.catch(() => {});
  const damaged = (what: string, cause: string) =>
    new DamageError({
      doing: `Unpacking ${archive}`,
      cause: `${JSON.stringify(what)}: ${cause}`,
      remedy: 'Do not use this crate; get it again from somebody you trust',
    });
  let entries = 0;
  try {
    for await (const entry of unpacked) {
      const { name, type, linkname } = entry.header;
      const path = bytesOfText(name.replace(/\/$/, ''));
      const to = linkname == null ? undefined : bytesOfText(linkname);
      const why = names.refuses({ name: bytesOfText(name), type: type ?? 'file', to });
      if (why) throw damaged(name, why);
      if (!known.test(path.split('/')[0]!)) throw damaged(name, 'a crate holds nothing of this name');
      // Links are made from the lists, once nothing more is written.
      if (type === 'directory') await into.makeFolder(path, 0o755);
      else if (type === 'file') await into.write(path, entry as unknown as AsyncIterable<Buffer>);
      entry.resume();
      entries++;
    }
    await read;
  } catch (error) {
    if (error instanceof DamageError || (error as { exitCode?: number }).exitCode !== undefined) throw error;
    signal.throwIfAborted();
    throw damaged(archive, `it is no whole tar (${(error as Error).message})`);
  }
  if (entries === 0) throw damaged(archive, 'nothing is in it');
}

/** Makes of what was unpacked what the lists say: names, links, modes and times. */
export async function settleCrate(crate: Crate): Promise<void> {
  const whole = new LocalFiles(crate.folder, { ownerOnly: true });
  for (const [list, folder] of Object.entries(lists)) {
    const end = new LocalFiles(crate.at(folder), { ownerOnly: true });
    for await (const { path, type, sha256 } of crate.entries(list)) {
      const waiting = asBytes(`${byChecksum}/${sha256}`);
      if (type === 'file' && !isText(path) && (await whole.entry(waiting)))
        await whole.rename(waiting, asBytes(`${folder}/${path}`));
    }
    const folders: CheckedEntry[] = [];
    for await (const entry of crate.entries(list)) {
      if (entry.type === 'link') await end.makeLink(entry.path, entry.to!);
      else if (entry.type === 'file') {
        // One that is missing is reported when all is verified.
        if (await end.entry(entry.path)) await end.setLike(entry.path, entry);
      } else {
        await end.makeFolder(entry.path, entry.mode);
        folders.push(entry);
      }
    }
    for (const entry of folders.reverse()) await end.finishFolder(entry.path, entry);
  }
  await whole.remove(asBytes(byChecksum) as ByteString);
}
