import { asBytes, type ByteString } from '../../../core/bytes.js';
import { PartWayError, UsageError } from '../../../core/errors.js';
import { folderOf } from '../../../core/files/entries.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { ledgerOf } from '../../move/ledger.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { keptOf, noteKept } from './kept-files.js';
import { clearOwnFolder, fetchableFindings, makeOwnFolder } from './own-folder.js';
import { exists, placeIn, type StagingPaths, stagingOf, stagingOfAll } from './staging.js';
import { swapEntries } from './swap-entries.js';

/**
 * The staging of a folder, with its incoming folder made. Where nothing can be put beside the folder, things wait and
 * are kept in it, out of visitors' reach; this is noted.
 */
export async function openStaging(run: StepRun, place: FilesPlace): Promise<StagingPaths> {
  const ledger = await ledgerOf(run.move);
  const staging = stagingOf(run.move, place, ledger);
  const isInside = ledger.stagedInside.has(place.text);
  try {
    if (place.isRoot && !isInside) throw new Error('no folder is above it');
    await makeOwnFolder(run, staging.folder);
    if ((await staging.end.entry(staging.incoming))?.type !== 'folder')
      await staging.end.makeFolder(staging.incoming, 0o755);
    return staging;
  } catch (error) {
    run.signal.throwIfAborted();
    if (isInside || !(await place.open().isThere())) throw error;
    return stageInside(run, place, error);
  }
}

/** Stages in the folder itself from now on. @param error why that could not be done beside it */
async function stageInside(run: StepRun, place: FilesPlace, error: unknown): Promise<StagingPaths> {
  try {
    await makeOwnFolder(run, place);
  } catch {
    throw error;
  }
  await noteDeed(run, 'deliver', { kind: 'staged inside', place: place.text });
  return openStaging(run, place);
}

/** @throws PartWayError where visitors could fetch what would be kept */
async function refuseFetchable(run: StepRun, { folder, place }: StagingPaths): Promise<void> {
  for (const { level, what, remedy } of await fetchableFindings(run, folder))
    if (level === 'stop') throw new PartWayError({ doing: `Putting ${place} in place`, cause: what, remedy });
}

/** How something is put in place. */
interface SwapOptions {
  /** Whether something is ready; if not, what is there is only removed. */
  readonly puts?: boolean;
  /** Keep what an earlier delivery put there: somebody has changed it since. */
  readonly keeps?: boolean;
}

/**
 * Puts what is ready at its place by renaming. What was there becomes the keepsake, unless an earlier delivery of this
 * move put it there. Each change is noted before it is made, so that it can be taken back from any moment.
 * @returns the paths of what is kept
 */
export async function swapIn(
  run: StepRun,
  staging: StagingPaths,
  { puts = true, keeps = false }: SwapOptions = {},
): Promise<string[]> {
  const { end, path, incoming, outgoing, keepsake, place } = staging;
  if (path === '') return swapEntries(run, staging);
  const [left, isThere] = await Promise.all([end.entry(outgoing), exists(staging, path)]);
  if (left) await end.remove(outgoing);
  const kept: string[] = [];
  if (isThere) {
    const { delivered, numberOfDelivery } = await ledgerOf(run.move);
    const ours = delivered.has(place.text);
    if (!ours && (await exists(staging, keepsake))) throw keptAlready(staging);
    if (!ours) await noteKept(run, staging, staging.keepsake, 'first delivery');
    else if (keeps) {
      await noteKept(run, staging, staging.kept(numberOfDelivery), 'delivery');
      kept.push(placeIn(staging, staging.kept(numberOfDelivery)).text);
    }
    const aside = keeps ? staging.kept(numberOfDelivery) : outgoing;
    try {
      await exchangeWith(run, staging, ours ? aside : keepsake, { puts, ours });
    } catch (error) {
      // The folder stays where it is (a mount, or another account's); what is in it can still be renamed.
      if ((await end.entry(path))?.type !== 'folder') throw error;
      if (!ours) await settleExchange(run, staging);
      const inside = await stageInside(run, place, error);
      await refuseFetchable(run, inside);
      await inside.end.remove(inside.incoming);
      await end.rename(incoming, asBytes(`${path}/${inside.incoming}`)).catch(async cause => {
        await end.remove(incoming);
        throw carryAgain(place, cause);
      });
      await clearOwnFolder(run.move, staging.folder);
      return swapEntries(run, inside);
    }
  } else {
    await noteDeed(run, 'deliver', { kind: 'put', place: place.text });
    if (puts) await end.rename(incoming, path);
  }
  if (isThere) await end.remove(outgoing);
  return [...kept, ...(await keptOf(staging))];
}

/** Exchanges what is at a place with what waits, or only takes it away. What was not ours is noted until it is done. */
async function exchangeWith(
  run: StepRun,
  { end, path, incoming, place }: StagingPaths,
  aside: ByteString,
  { puts, ours }: { readonly puts: boolean; readonly ours: boolean },
): Promise<void> {
  const above = folderOf(aside);
  if (above !== '') await end.makeFolder(above, 0o700);
  if (!ours) await noteDeed(run, 'deliver', { kind: 'exchanging', place: place.text });
  if (puts) await end.exchange(incoming, path, aside);
  else await end.rename(path, aside);
  await noteDeed(run, 'deliver', { kind: 'put', place: place.text });
}

/** Notes what became of exchanges in the middle of which a run was killed. */
export async function settleExchanges(run: StepRun): Promise<void> {
  const ledger = await ledgerOf(run.move);
  for (const staging of stagingOfAll(run.move, ledger))
    if (ledger.exchanging.has(staging.place.text)) await settleExchange(run, staging);
}

/** What was before the first delivery is kept beside the place, or it is at the place. */
async function settleExchange(run: StepRun, staging: StagingPaths): Promise<void> {
  const kind = (await exists(staging, staging.keepsake)) ? 'put' : 'taken away';
  await noteDeed(run, 'deliver', { kind, place: staging.place.text });
}

function keptAlready(staging: StagingPaths): UsageError {
  return new UsageError({
    doing: `Putting ${staging.place} in place`,
    cause: `it is new since the first delivery, and ${placeIn(staging, staging.keepsake)} already keeps what was there before`,
    remedy: 'Move one of the two away by hand, then run the command again',
  });
}

function carryAgain(place: FilesPlace, cause: unknown): PartWayError {
  return new PartWayError(
    {
      doing: `Putting ${place} in place`,
      cause: 'the folder cannot be renamed, nor can what waited beside it be moved into it',
      remedy: 'Run the command again; it transfers the files into the folder itself',
    },
    { cause },
  );
}
