import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, readdir, rename, rm, stat } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import { DamageError, PartWayError } from '../../core/errors.js';
import {
  isKept,
  type KeptName,
  keptFileName,
  keptFolderName,
  keptKey,
  keptWhole,
  readKeptFileName,
  readKeptFolderName,
} from '../../core/fleet/kept.js';
import {
  newSealingKey,
  sealed,
  sealedFor,
  sealingKeyOf,
  unsealed,
  unsealedWith,
} from '../../ends/archive/seal.js';
import { chunksOf, wholeOf } from '../../ends/content.js';
import { checksumOf } from '../../ends/move-folder/crate-part.js';
import type { Store } from '../../ends/store/store.js';
import { whileDoing } from '../../ends/system-errors.js';

/** What of a move folder is kept, and where. */
interface Kept extends KeptName {
  readonly store: Store;
  /** The move folder. */
  readonly folder: string;
}

const largestKey = 64 * 1024;

/**
 * The move folder of a site, kept at a store so that any machine can resume the move: all of it but the crate, which is taken again. It
 * is sealed. Whoever takes a site over keeps it under a larger number, and whoever had it before sees that before its next deed.
 */
export class KeptFolder {
  private readonly kept: Kept;
  private readonly recipient: string;
  /** What is at the store by now: size and time by path. */
  private readonly there = new Map<string, string>();
  private keeping: Promise<void> = Promise.resolve();

  /** @param recipient for whom files are sealed */
  constructor(kept: Kept, recipient: string) {
    this.kept = kept;
    this.recipient = recipient;
  }

  /**
   * Takes a site over: brings the move folder here as it was kept last, and keeps it under its own number from now on.
   * @returns for whom its files are sealed
   */
  static async takeOver(kept: Kept, passphrase: string, signal: AbortSignal): Promise<string> {
    const before = await others(kept, signal);
    const last = before.at(-1);
    if (last && last.fence > kept.fence) throw fencedOff();
    const whole = await lastWhole(kept, before, signal);
    if (whole) await fetchAll({ ...kept, fence: whole.fence }, passphrase, signal);
    const key = await newSealingKey();
    const content = await wholeOf(sealed(chunksOf(Buffer.from(key.identity)), passphrase));
    await kept.store.write(keptFolderName(kept), keptKey, content, signal);
    const own = new KeptFolder(kept, key.recipient);
    await own.keep(signal);
    await kept.store.write(keptFolderName(kept), keptWhole, Buffer.from('whole\n'), signal);
    for (const old of before) await removeAll({ ...kept, fence: old.fence }, signal);
    return key.recipient;
  }

  /** Brings what has changed to the store, the journal last. @throws PartWayError where another has taken the site over */
  keep(signal: AbortSignal): Promise<void> {
    // One after the other: what comes later has more to keep.
    const kept = this.keeping.then(() => this.keepNow(signal));
    this.keeping = kept.catch(() => {});
    return kept;
  }

  private async keepNow(signal: AbortSignal): Promise<void> {
    const { folder, fence } = this.kept;
    if ((await others(this.kept, signal)).some(other => other.fence > fence)) throw fencedOff();
    const paths = (await filesIn(folder)).sort(
      (a, b) => Number(a === 'journal.ndjson') - Number(b === 'journal.ndjson') || (a < b ? -1 : 1),
    );
    for (const path of paths) {
      const state = await stateOf(join(folder, path));
      if (state === undefined || this.there.get(path) === state) continue;
      await this.put(path, signal);
      this.there.set(path, state);
    }
  }

  private async put(path: string, signal: AbortSignal): Promise<void> {
    const { folder, store } = this.kept;
    const sealedFile = join(folder, 'keep', keptFileName(path));
    await mkdir(dirname(sealedFile), { recursive: true, mode: 0o700 });
    await pipeline(
      sealedFor(createReadStream(join(folder, path)), this.recipient),
      createWriteStream(sealedFile, { mode: 0o600 }),
      { signal },
    );
    const file = { file: sealedFile, ...(await checksumOf(sealedFile)) };
    const options = { signal, progress: () => {}, note: `${sealedFile}.upload` };
    await store.put(keptFolderName(this.kept), keptFileName(path), file, options);
    await rm(sealedFile);
  }
}

function fencedOff(): PartWayError {
  return new PartWayError({
    doing: 'Keeping the move folder at the store',
    cause: 'another worker has taken this move over, since this one did not answer for a while',
    remedy: 'Nothing; the other one resumes it',
  });
}

/** The other numbers under which a site is kept, the smallest first. */
async function others({ store, site, fence }: Kept, signal: AbortSignal): Promise<KeptName[]> {
  return (await store.folders(signal))
    .flatMap(name => readKeptFolderName(name) ?? [])
    .filter(one => one.site === site && one.fence !== fence)
    .sort((a, b) => a.fence - b.fence);
}

/** The latest of which all was kept: whoever took the site over after it may have been killed before that. */
async function lastWhole(
  { store }: Kept,
  names: readonly KeptName[],
  signal: AbortSignal,
): Promise<KeptName | undefined> {
  for (const name of [...names].reverse())
    if (await store.small(keptFolderName(name), keptWhole, largestKey, signal)) return name;
  return undefined;
}

/** Brings a kept folder here, in place of what is here of it. */
async function fetchAll(kept: Kept, passphrase: string, signal: AbortSignal): Promise<void> {
  const { store, folder } = kept;
  const from = keptFolderName(kept);
  const sealedKey = await store.small(from, keptKey, largestKey, signal);
  if (!sealedKey) {
    throw new DamageError({
      doing: `Fetching ${store.text}/${from}`,
      cause: 'its key is missing',
      remedy: 'Resume the move on a machine that has its move folder, or look at the new end by hand',
    });
  }
  const text = await wholeOf(
    unsealed(chunksOf(sealedKey), async () => passphrase, `${store.text}/${from}/${keptKey}`),
  );
  const { identity } = await sealingKeyOf(text.toString());
  const waiting = join(folder, 'keep');
  await rm(waiting, { recursive: true, force: true });
  const paths: string[] = [];
  for (const { name } of await store.files(from, signal)) {
    const path = readKeptFileName(name);
    if (path === undefined) continue;
    const file = join(waiting, path);
    await whileDoing(`Writing ${file}`, async () => {
      await mkdir(dirname(file), { recursive: true, mode: 0o700 });
      await pipeline(
        unsealedWith(store.read(from, name, 0, signal), identity, name),
        createWriteStream(file, { mode: 0o600 }),
        { signal },
      );
    });
    paths.push(path);
  }
  // Only once all of it is here.
  for (const path of await filesIn(folder)) await rm(join(folder, path));
  for (const path of paths) {
    await mkdir(dirname(join(folder, path)), { recursive: true, mode: 0o700 });
    await rename(join(waiting, path), join(folder, path));
  }
  await rm(waiting, { recursive: true, force: true });
}

async function removeAll(kept: Kept, signal: AbortSignal): Promise<void> {
  const name = keptFolderName(kept);
  for (const file of await kept.store.files(name, signal)) await kept.store.remove(name, file.name, signal);
  await kept.store.removeFolder(name, signal);
}

/** The paths of what is kept of a move folder. */
async function filesIn(folder: string): Promise<string[]> {
  const entries = await readdir(folder, { withFileTypes: true, recursive: true }).catch(() => []);
  return entries
    .filter(entry => entry.isFile())
    .map(entry => join(entry.parentPath, entry.name).slice(folder.length + 1))
    .filter(isKept);
}

async function stateOf(file: string): Promise<string | undefined> {
  return stat(file).then(
    ({ size, mtimeMs }) => `${size} ${mtimeMs}`,
    () => undefined,
  );
}
