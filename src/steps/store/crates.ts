import { createHash } from 'node:crypto';
import { DamageError, PorterError, UsageError } from '../../core/errors.js';
import {
  isOfStoredCrate,
  isStoredName,
  readStoredIndex,
  readStoredKey,
  type StoredCrate,
  type StoredKey,
  type StoredPart,
  storedIndex,
  storedKey,
} from '../../core/store/stored-crate.js';
import { unsealed, unsealedWith } from '../../ends/archive/seal.js';
import { chunksOf, wholeOf } from '../../ends/content.js';
import type { Store } from '../../ends/store/store.js';
import type { EventSink } from '../move/events.js';
import type { Move } from '../move/open.js';

/** No index or key is larger, in bytes: a line a part. */
const largestIndex = 64 * 1024;
const largestKey = 64 * 1024 * 1024;

/** A crate at a store, or what an interrupted run left of one. */
export interface ListedCrate {
  readonly name: string;
  /** Undefined where not all of it is there, or its index cannot be read. */
  readonly crate: StoredCrate | undefined;
  /** Why it cannot be read. */
  readonly damage: string | undefined;
  /** What lies there, in bytes, also where it is not whole. */
  readonly bytes: number;
}

/** The crates at a store, the oldest first. Folders with other names are not looked into. */
export async function listCrates(store: Store, signal: AbortSignal): Promise<ListedCrate[]> {
  const crates: ListedCrate[] = [];
  for (const name of (await store.folders(signal)).filter(isStoredName).sort(byTime)) {
    const files = await store.files(name, signal);
    const bytes = files.reduce((sum, file) => sum + file.bytes, 0);
    try {
      crates.push({ name, crate: await indexOf(store, name, signal), damage: undefined, bytes });
    } catch (error) {
      if (!(error instanceof DamageError)) throw error;
      crates.push({ name, crate: undefined, damage: error.details.cause, bytes });
    }
  }
  return crates;
}

function byTime(a: string, b: string): number {
  const timed = (name: string) => `${name.slice(name.lastIndexOf('-'))}${name}`;
  return timed(a) < timed(b) ? -1 : 1;
}

/** What a stored crate says of itself; undefined where it is not there, or not whole. */
export async function indexOf(
  store: Store,
  name: string,
  signal: AbortSignal,
): Promise<StoredCrate | undefined> {
  const content = await store.small(name, storedIndex, largestIndex, signal);
  return content && readStoredIndex(content.toString(), `${store.text}/${name}/${storedIndex}`);
}

/**
 * The stored crate that is meant.
 * @param name left out, it is the newest of this move
 * @throws UsageError where there is none
 */
export async function storedCrate(
  store: Store,
  { name, move }: { readonly name: string | undefined; readonly move: string | undefined },
  signal: AbortSignal,
): Promise<{ readonly name: string; readonly crate: StoredCrate }> {
  if (name !== undefined) {
    const crate = await indexOf(store, name, signal);
    if (crate) return { name, crate };
    throw none(store, `there is no whole crate ${name}`);
  }
  const all = await listCrates(store, signal);
  const newest = all.findLast(one => one.crate && (move === undefined || one.name.startsWith(`${move}-2`)));
  if (newest?.crate) return { name: newest.name, crate: newest.crate };
  throw none(
    store,
    move === undefined ? 'it holds no whole crate' : `it holds no whole crate of the move ${move}`,
  );
}

function none(store: Store, cause: string): UsageError {
  return new UsageError({
    doing: `Looking at ${store.text}`,
    cause,
    remedy: 'Look at "able-porter crates", and name one',
  });
}

/** Opens the key of a stored crate. @throws UsageError for a wrong passphrase, DamageError where it is of another crate */
export async function keyOf(
  store: Store,
  { name, crate }: { readonly name: string; readonly crate: StoredCrate },
  passphrase: () => Promise<string>,
  signal: AbortSignal,
): Promise<StoredKey> {
  const shown = `${store.text}/${name}/${storedKey}`;
  const content = await store.small(name, storedKey, largestKey, signal);
  if (!content) throw damaged(shown, 'it is not there');
  const text = (await wholeOf(unsealed(chunksOf(content), passphrase, shown))).toString();
  const key = readStoredKey(text, shown);
  if (key.crate !== crate.crate || key.parts.length !== crate.parts)
    throw damaged(shown, 'it is the key of another crate than its index names');
  return key;
}

function damaged(what: string, cause: string): DamageError {
  return new DamageError({
    doing: `Reading ${what}`,
    cause,
    remedy: 'Do not use this crate; store it again',
  });
}

/** What was read of a stored crate. */
export interface VerifiedStored {
  readonly name: string;
  readonly crate: StoredCrate;
  readonly parts: number;
  readonly bytes: number;
}

/**
 * Reads all of a stored crate, compares it with the checksums that are sealed in its key, and opens every part.
 * @throws DamageError that names the first part which is not as it was stored, and how many are not
 */
export async function verifyStored(
  {
    store,
    events,
    signal,
  }: { readonly store: Store; readonly events: EventSink; readonly signal: AbortSignal },
  found: { readonly name: string; readonly crate: StoredCrate },
  passphrase: () => Promise<string>,
): Promise<VerifiedStored> {
  const key = await keyOf(store, found, passphrase, signal);
  const wrong: string[] = [];
  let done = 0;
  for (const part of key.parts) {
    const reads = (bytes: number) => {
      done += bytes;
      events({ type: 'progress', what: found.name, done, of: found.crate.bytes, unit: 'bytes' });
    };
    if (!(await isAsStored({ store, signal, name: found.name }, part, key.identity, reads)))
      wrong.push(part.name);
  }
  if (wrong.length === 0) return { ...found, parts: key.parts.length, bytes: done };
  throw damaged(
    `${store.text}/${found.name}`,
    `${wrong.length} of ${key.parts.length} parts ${wrong.length === 1 ? 'is' : 'are'} missing or not as stored, the first ${wrong[0]}`,
  );
}

async function isAsStored(
  { store, signal, name }: { readonly store: Store; readonly signal: AbortSignal; readonly name: string },
  part: StoredPart,
  identity: string,
  reads: (bytes: number) => void,
): Promise<boolean> {
  const hash = createHash('sha256');
  let bytes = 0;
  const content = (async function* () {
    for await (const chunk of store.read(name, part.name, 0, signal)) {
      hash.update(chunk);
      bytes += chunk.length;
      reads(chunk.length);
      yield chunk;
    }
  })();
  try {
    for await (const _ of unsealedWith(content, identity, part.name));
  } catch (error) {
    signal.throwIfAborted();
    if (error instanceof DamageError || (error instanceof PorterError && error.kind === 'not found'))
      return false;
    throw error;
  }
  return bytes === part.bytes && hash.digest('hex') === part.sha256;
}

/**
 * Removes a crate from a store, its index first: a crate that is not whole is not taken for one. What is not of a crate stays.
 * @returns how many files were removed
 */
export async function removeStored(store: Store, name: string, signal: AbortSignal): Promise<number> {
  const files = (await store.files(name, signal)).map(file => file.name);
  const own = files
    .filter(isOfStoredCrate)
    .sort((a, b) => Number(b === storedIndex) - Number(a === storedIndex));
  for (const file of own) await store.remove(name, file, signal);
  if (own.length > 0 && own.length === files.length) await store.removeFolder(name, signal);
  return own.length;
}

/**
 * Removes a crate that a person names, whole or not.
 * @param move whose journal notes it, where there is one
 * @throws UsageError where nothing of it is there
 */
export async function removeFrom(
  store: Store,
  name: string,
  { signal, move }: { readonly signal: AbortSignal; readonly move: Move | undefined },
): Promise<number> {
  const removed = await removeStored(store, name, signal);
  if (removed === 0) throw none(store, `there is nothing of a crate ${name}`);
  const deed = { kind: 'crate removed', place: store.text, name } as const;
  await move?.folder.note({ at: new Date().toISOString(), step: 'pack', event: 'did', deed });
  return removed;
}
