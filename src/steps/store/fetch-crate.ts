import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, readdir, rename, rm, stat } from 'node:fs/promises';
import { pipeline } from 'node:stream/promises';
import { DamageError } from '../../core/errors.js';
import type { StoredCrate, StoredKey, StoredPart } from '../../core/store/stored-crate.js';
import { unsealedWith } from '../../ends/archive/seal.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { checksumOf } from '../../ends/move-folder/crate-part.js';
import type { Store } from '../../ends/store/store.js';
import { whileDoing } from '../../ends/system-errors.js';
import type { StepRun } from '../move/step.js';
import { takeCrate } from '../pack/archive.js';
import { keyOf } from './crates.js';

/** So many parts are fetched at once. */
const atOnce = 3;

/**
 * Fetches a crate from a store, verifies all of it, and puts it in place of the one in the move folder. Parts that an
 * interrupted run has fetched are not fetched again.
 * @throws DamageError where a part is not as it was stored
 */
export async function fetchCrate(
  run: StepRun,
  store: Store,
  found: { readonly name: string; readonly crate: StoredCrate },
  passphrase: () => Promise<string>,
): Promise<CrateManifest> {
  const key = await keyOf(store, found, passphrase, run.signal);
  const folder = run.move.folder.at('fetch');
  await clearOthers(folder, found.name);
  await whileDoing(`Making ${folder}`, () => mkdir(folder, { recursive: true, mode: 0o700 }));
  const ending = new AbortController();
  const fetching = { ...run, signal: AbortSignal.any([run.signal, ending.signal]) };
  try {
    const content = contentOf(fetching, store, found, key);
    const manifest = await takeCrate(run, content, `${store.text}/${found.name}`);
    await rm(folder, { recursive: true, force: true });
    return manifest;
  } finally {
    ending.abort();
  }
}

/** What is left of another crate. */
async function clearOthers(folder: string, name: string): Promise<void> {
  const files = await readdir(folder).catch(() => []);
  for (const file of files) if (!file.startsWith(`${name}.`)) await rm(`${folder}/${file}`);
}

async function* contentOf(
  run: StepRun,
  store: Store,
  { name, crate }: { readonly name: string; readonly crate: StoredCrate },
  { parts, identity }: StoredKey,
): AsyncIterable<Buffer> {
  let done = 0;
  const reads = (bytes: number) => {
    done += bytes;
    run.events({ type: 'progress', what: `from ${store.text}`, done, of: crate.bytes, unit: 'bytes' });
  };
  const coming: Promise<string>[] = [];
  const begin = (i: number) => {
    if (i >= parts.length) return;
    coming[i] = fetchPart(run, store, { name, part: parts[i]!, reads });
    coming[i].catch(() => {});
  };
  for (let i = 0; i < atOnce; i++) begin(i);
  for (const [i, part] of parts.entries()) {
    const file = await coming[i]!;
    yield* unsealedWith(createReadStream(file, { highWaterMark: 1 << 20 }), identity, part.name);
    begin(i + atOnce);
  }
}

/** @returns the file on this machine that holds the part */
async function fetchPart(
  { move, signal }: StepRun,
  store: Store,
  { name, part, reads }: { readonly name: string; readonly part: StoredPart; reads(bytes: number): void },
): Promise<string> {
  const file = move.folder.at('fetch', `${name}.${part.name}`);
  const partial = `${file}.partial`;
  const sizeOf = async (path: string) => (await stat(path).catch(() => undefined))?.size;
  if ((await sizeOf(file)) === part.bytes) {
    reads(part.bytes);
    return file;
  }
  const there = (await sizeOf(partial)) ?? 0;
  for (const from of there > 0 && there <= part.bytes ? [there, 0] : [0]) {
    reads(from);
    const rest = from < part.bytes ? counted(store.read(name, part.name, from, signal), reads) : [];
    const out = createWriteStream(partial, { mode: 0o600, flags: from > 0 ? 'a' : 'w' });
    await whileDoing(`Writing ${partial}`, () => pipeline(rest, out, { signal }));
    const { bytes, sha256 } = await checksumOf(partial);
    if (bytes === part.bytes && sha256 === part.sha256) {
      await rename(partial, file);
      return file;
    }
    reads(-bytes);
  }
  await rm(partial, { force: true });
  throw new DamageError({
    doing: `Fetching ${store.text}/${name}/${part.name}`,
    cause: 'it is not what was stored there',
    remedy: 'Use another crate; this one was changed or damaged at the store',
  });
}

async function* counted(
  content: AsyncIterable<Buffer>,
  reads: (bytes: number) => void,
): AsyncIterable<Buffer> {
  for await (const chunk of content) {
    reads(chunk.length);
    yield chunk;
  }
}
