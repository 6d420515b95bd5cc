import { createHash } from 'node:crypto';
import { asBytes, type ByteString } from '../../../core/bytes.js';
import { DamageError } from '../../../core/errors.js';
import type { FileEntry } from '../../../core/files/entries.js';
import type { KeptBy, KeptListing } from '../../../core/journal.js';
import { counted } from '../../../core/text/numbers.js';
import { sizeText } from '../../../core/text/sizes.js';
import { type Keepsake, type KeptFiles, ledgerOf } from '../../move/ledger.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { exists, isOwn, placeIn, type StagingPaths, stagingOfAll } from './staging.js';

/** Lists what is kept of files since the last step, so that a later one sees whether it is still whole. */
export async function listKept(run: StepRun, step: 'deliver' | 'configure' | 'undo'): Promise<void> {
  const ledger = await ledgerOf(run.move);
  for (const staging of stagingOfAll(run.move, ledger)) {
    const place = staging.place.text;
    for (const { number, files, listed } of ledger.keepsakes.values()) {
      const kept = files.find(one => one.place === place);
      if (!kept || listed.has(place)) continue;
      const listing = await listingAt(run, staging, keptPath(staging, kept));
      if (listing) await noteDeed(run, step, { kind: 'files listed', place, number, listing });
    }
  }
}

/** Notes that what is at a place is about to be kept as a whole. */
export async function noteKept(
  run: StepRun,
  staging: StagingPaths,
  to: ByteString,
  by: KeptBy,
): Promise<void> {
  const keepsake = placeIn(staging, to).text;
  const number = (await ledgerOf(run.move)).numberOfDelivery;
  const place = staging.place.text;
  await noteDeed(run, 'deliver', { kind: 'kept', place, keepsake, number, by });
}

/** The path of what is kept of a place, where something is. */
export async function keptOf(staging: StagingPaths): Promise<string[]> {
  return (await exists(staging, staging.keepsake)) ? [placeIn(staging, staging.keepsake).text] : [];
}

/** Where something that is kept of a place is. */
export function keptPath(staging: StagingPaths, { by, number }: KeptFiles): ByteString {
  return by === 'first delivery' ? staging.keepsake : staging.kept(number);
}

/** @throws DamageError where what is kept of a place is not what it was when it was kept */
export async function requireWhole(run: StepRun, staging: StagingPaths, keepsake: Keepsake): Promise<void> {
  const place = staging.place.text;
  const kept = keepsake.files.find(one => one.place === place);
  const was = keepsake.listed.get(place);
  if (!kept || !was) return;
  const is = await listingAt(run, staging, keptPath(staging, kept));
  if (is?.digest === was.digest) return;
  throw new DamageError({
    doing: `Restoring ${place}`,
    cause: `${kept.keepsake} held ${shown(was)} when it was kept, and holds ${is ? difference(was, is) : 'nothing'} now`,
    remedy:
      'Nothing was changed. Put what is missing back from a backup, or take what you need from there by hand',
  });
}

/** @throws DamageError where a place is not what was kept of it */
export async function requireRestored(
  run: StepRun,
  staging: StagingPaths,
  was: KeptListing | undefined,
): Promise<void> {
  if (!was) return;
  const is = await listingAt(run, staging, staging.path);
  if (is?.digest === was.digest) return;
  throw new DamageError({
    doing: `Looking at ${staging.place} once it was restored`,
    cause: `what was kept were ${shown(was)}, and there ${is ? difference(was, is) : 'is nothing'} now`,
    remedy: 'Somebody may have changed it meanwhile; compare it with a backup',
  });
}

/** Names, kinds and sizes of all that is at a path; undefined where nothing is. Times are not the same over every protocol. */
async function listingAt(
  { signal }: StepRun,
  staging: StagingPaths,
  path: ByteString,
): Promise<KeptListing | undefined> {
  const place = path === '' ? staging.folder : placeIn(staging, path);
  const top = path === '' ? undefined : await staging.end.entry(path);
  if (path !== '' && !top) return undefined;
  const hash = createHash('sha256');
  const seen = { files: 0, bytes: 0 };
  const add = ({ path: name, type, size, to }: FileEntry) => {
    hash.update(`${JSON.stringify([name, type, size, to ?? ''])}\n`);
    if (type !== 'folder') seen.files++;
    seen.bytes += size;
  };
  if (top && top.type !== 'folder') add({ ...top, path: asBytes('') });
  else for await (const entry of place.open().list(({ path: one }) => isOwn(one), signal)) add(entry);
  return { ...seen, digest: hash.digest('hex') };
}

function shown({ files, bytes }: KeptListing): string {
  return `${counted(files, 'file')} (${sizeText(bytes)})`;
}

function difference(was: KeptListing, is: KeptListing): string {
  return was.files === is.files && was.bytes === is.bytes ? 'as many with other names or sizes' : shown(is);
}
