import { stat } from 'node:fs/promises';
import { resolve } from 'node:path';
import { isRemotePlace } from '../../core/files/place-url.js';
import { isStoredName } from '../../core/store/stored-crate.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import type { StepRun } from '../move/step.js';
import { openArchive } from '../pack/archive.js';
import { storedCrate } from './crates.js';
import { fetchCrate } from './fetch-crate.js';
import { placeOfCrate, storeOf, userOf } from './stores.js';

/**
 * Takes the crate that a person names into the move folder: an archive on this machine, or a crate at a store.
 * @param named the archive or all of its parts; or a store, or a crate there
 */
export async function openCrate(
  run: StepRun,
  named: readonly string[],
  passphrase: () => Promise<string>,
): Promise<CrateManifest> {
  const [only] = named;
  if (named.length > 1 || only === undefined || !(await isAtStore(only)))
    return openArchive(run, named, passphrase);
  const { place, name } = placeOfCrate(only);
  const store = await storeOf(userOf(run.move), place);
  try {
    const found = await storedCrate(store, { name, move: run.move.sheet.name }, run.signal);
    return await fetchCrate(run, store, found, passphrase);
  } finally {
    await store.close();
  }
}

/** Archives are files on this machine; stores are anything else, and crates in them go by names of their own. */
async function isAtStore(named: string): Promise<boolean> {
  const there = isRemotePlace(named) ? undefined : await stat(resolve(named)).catch(() => undefined);
  return isRemotePlace(named) || (there ? there.isDirectory() : isStoredName(named));
}
