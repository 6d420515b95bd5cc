import { asBytes, type ByteString, bytesOfText } from '../../../core/bytes.js';
import { PartWayError, UsageError } from '../../../core/errors.js';
import { folderOf } from '../../../core/files/entries.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { KeptBy } from '../../../core/journal.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { exists, ownFolder, placeIn, type StagingPaths, stagingOf, topLevel } from './staging.js';

/**
 * The staging of a folder, with its incoming folder made. Where nothing can be put beside the folder, things wait and
 * are kept in it, out of visitors' reach; this is noted.
 */
export async function openStaging(run: StepRun, place: FilesPlace): Promise<StagingPaths> {
  const ledger = await ledgerOf(run.move);
  const staging = stagingOf(run.move, place, ledger);
  if (ledger.stagedInside.has(place.text)) {
    await makeOwnFolder(run.move, staging.end);
    await staging.end.makeFolder(staging.incoming, 0o755);
    return staging;
  }
  try {
    if (place.isRoot) throw new Error('no folder is above it');
    await staging.end.makeFolder(staging.incoming, 0o755);
    return staging;
  } catch (error) {
    run.signal.throwIfAborted();
    if (!(await place.open().isThere())) throw error;
    return stageInside(run, place, error);
  }
}

/** Stages in the folder itself from now on. @param error why that could not be done beside it */
async function stageInside(run: StepRun, place: FilesPlace, error: unknown): Promise<StagingPaths> {
  try {
    await makeOwnFolder(run.move, place.open());
  } catch {
    throw error;
  }
  await noteDeed(run, 'deliver', { kind: 'staged inside', place: place.text });
  return openStaging(run, place);
}

/** Visitors get nothing of it: its owner alone may enter, and the web server is configured so as well. */
async function makeOwnFolder({ sheet }: Move, end: FilesEnd): Promise<void> {
  const folder = bytesOfText(ownFolder(sheet.name));
  await end.makeFolder(folder, 0o700);
  await end.write(asBytes(`${folder}/.htaccess`), Buffer.from('Require all denied\n'));
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
  await end.remove(outgoing);
  const kept: string[] = [];
  if (await exists(staging, path)) {
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
      await moveAside(end, path, ours ? aside : keepsake);
    } catch (error) {
      // The folder stays where it is (a mount, or another account's); what is in it can still be renamed.
      if ((await end.entry(path))?.type !== 'folder') throw error;
      const inside = await stageInside(run, place, error);
      await inside.end.remove(inside.incoming);
      await end.rename(incoming, asBytes(`${path}/${inside.incoming}`)).catch(async cause => {
        await end.remove(incoming);
        throw carryAgain(place, cause);
      });
      return swapEntries(run, inside);
    }
  }
  // Nothing is at the place now, which visitors see: this must not wait for the disk.
  await noteDeed(run, 'deliver', { kind: 'put', place: place.text }, true);
  if (puts) await end.rename(incoming, path);
  await end.remove(outgoing);
  return [...kept, ...(await keptOf(staging))];
}

/** The same for a folder that cannot be renamed: everything in it is renamed one by one, the index file last. */
async function swapEntries(run: StepRun, staging: StagingPaths): Promise<string[]> {
  const { end, incoming, keepsake, place } = staging;
  if (!(await ledgerOf(run.move)).delivered.has(place.text)) {
    const before = await topLevel(end);
    if (before.length > 0) {
      await noteKept(run, staging, staging.keepsake, 'first delivery');
      await end.makeFolder(keepsake, 0o700);
      for (const { path } of before.reverse()) await end.rename(path, asBytes(`${keepsake}/${path}`));
    }
  }
  await noteDeed(run, 'deliver', { kind: 'put', place: place.text });
  for (const { path } of await topLevel(placeIn(staging, incoming).open()))
    await end.rename(asBytes(`${incoming}/${path}`), path);
  await end.remove(incoming);
  return keptOf(staging);
}

async function noteKept(run: StepRun, staging: StagingPaths, to: ByteString, by: KeptBy): Promise<void> {
  const keepsake = placeIn(staging, to).text;
  const number = (await ledgerOf(run.move)).numberOfDelivery;
  const place = staging.place.text;
  await noteDeed(run, 'deliver', { kind: 'kept', place, keepsake, number, by });
}

/** The path of what is kept of a place, where something is. */
export async function keptOf(staging: StagingPaths): Promise<string[]> {
  return (await exists(staging, staging.keepsake)) ? [placeIn(staging, staging.keepsake).text] : [];
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

async function moveAside(end: FilesEnd, path: ByteString, to: ByteString): Promise<void> {
  const above = folderOf(to);
  if (above !== '') await end.makeFolder(above, 0o700);
  await end.rename(path, to);
}

/** The finding for a web root that stays where it is. */
export function rootNotRenamable(place: string): Finding {
  return finding({
    level: 'note',
    code: 'root-not-renamable',
    place,
    what: 'The web root itself cannot be renamed, so its files are put in place one by one, the index file last',
    remedy: 'Nothing needs to be done; for a moment old and new files are side by side',
  });
}
