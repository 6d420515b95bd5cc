import { asBytes, type ByteString, bytesOfText } from '../../../core/bytes.js';
import { PartWayError, UsageError } from '../../../core/errors.js';
import { folderOf } from '../../../core/files/entries.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import { openFiles, placeAbove } from '../../../ends/files/place.js';
import type { Move } from '../../move/open.js';
import { noteDone, type StepRun } from '../../move/step.js';
import { delivered, ownFolder, pathIn, type Spot, spotOf, stands, topOf, withinOf } from './staging.js';

/**
 * The spot of a folder, with its incoming folder made. Where nothing can be put beside the folder, things wait and are
 * kept in it, out of visitors' reach; this is noted.
 */
export async function openSpot(run: StepRun, place: string): Promise<Spot> {
  const within = withinOf(await run.move.folder.readJournal());
  const spot = spotOf(run.move, place, within);
  if (within.has(place)) {
    await makeOwnFolder(run.move, spot.end);
    await spot.end.makeFolder(spot.incoming, 0o755);
    return spot;
  }
  try {
    if (placeAbove(place) === place) throw new Error('nothing is above it');
    await spot.end.makeFolder(spot.incoming, 0o755);
    return spot;
  } catch (error) {
    run.signal.throwIfAborted();
    if (!(await openFiles(place).isThere())) throw error;
    return goWithin(run, place, error);
  }
}

/** Goes on in the folder itself, from the first thing that could not be done beside it. */
async function goWithin(run: StepRun, place: string, error: unknown): Promise<Spot> {
  try {
    await makeOwnFolder(run.move, openFiles(place));
  } catch {
    throw error;
  }
  await noteDone(run, 'deliver', { within: place });
  return openSpot(run, place);
}

/** Visitors get nothing of it: its owner alone may enter, and the web server is told so as well. */
async function makeOwnFolder({ sheet }: Move, end: FilesEnd): Promise<void> {
  const folder = bytesOfText(ownFolder(sheet.name));
  await end.makeFolder(folder, 0o700);
  await end.write(asBytes(`${folder}/.htaccess`), Buffer.from('Require all denied\n'));
}

/**
 * Puts what is ready at its place by renaming. What stood there becomes the keepsake, unless an earlier delivery
 * of this move put it there. Each change is noted before it is made, so that it can be taken back from any moment.
 * @param puts whether something is ready; if not, what stands there is only taken away
 * @returns the paths of what is kept
 */
export async function swapIn(run: StepRun, spot: Spot, puts = true): Promise<string[]> {
  const { end, path, incoming, outgoing, keepsake, place } = spot;
  if (path === '') return swapEntries(run, spot);
  await end.remove(outgoing);
  if (await stands(spot, path)) {
    const ours = delivered(await run.move.folder.readJournal()).has(place);
    if (!ours && (await stands(spot, keepsake))) throw keptAlready(spot);
    if (!ours) await noteDone(run, 'deliver', { keeps: pathIn(spot, keepsake), of: place });
    try {
      await moveAside(end, path, ours ? outgoing : keepsake);
    } catch (error) {
      // The folder stays where it is (a mount, or another account's); what is in it can still be renamed.
      if ((await end.entry(path))?.type !== 'folder') throw error;
      const inside = await goWithin(run, place, error);
      await inside.end.remove(inside.incoming);
      await end.rename(incoming, asBytes(`${path}/${inside.incoming}`)).catch(async cause => {
        await end.remove(incoming);
        throw carryAgain(place, cause);
      });
      return swapEntries(run, inside);
    }
  }
  await noteDone(run, 'deliver', { puts: place });
  if (puts) await end.rename(incoming, path);
  await end.remove(outgoing);
  return (await stands(spot, keepsake)) ? [pathIn(spot, keepsake)] : [];
}

/** The same for a folder that cannot be renamed: everything in it is renamed one by one, the index file last. */
async function swapEntries(run: StepRun, spot: Spot): Promise<string[]> {
  const { end, incoming, keepsake, place } = spot;
  const journal = await run.move.folder.readJournal();
  if (!delivered(journal).has(place)) {
    const standing = await topOf(end);
    if (standing.length > 0) {
      await noteDone(run, 'deliver', { keeps: pathIn(spot, keepsake), of: place });
      await end.makeFolder(keepsake, 0o700);
      for (const { path } of standing.reverse()) await end.rename(path, asBytes(`${keepsake}/${path}`));
    }
  }
  await noteDone(run, 'deliver', { puts: place });
  for (const { path } of await topOf(openFiles(pathIn(spot, incoming))))
    await end.rename(asBytes(`${incoming}/${path}`), path);
  await end.remove(incoming);
  return (await stands(spot, keepsake)) ? [pathIn(spot, keepsake)] : [];
}

function keptAlready(spot: Spot): UsageError {
  return new UsageError({
    doing: `Putting ${spot.place} in place`,
    cause: `something new stands there, and ${pathIn(spot, spot.keepsake)} already keeps what stood there before`,
    remedy: 'Move one of the two away by hand, then run the command again',
  });
}

function carryAgain(place: string, cause: unknown): PartWayError {
  return new PartWayError(
    {
      doing: `Putting ${place} in place`,
      cause: 'the folder cannot be renamed, nor can what waited beside it be put into it',
      remedy: 'Run the command again; it carries the files into the folder itself',
    },
    { cause },
  );
}

async function moveAside(end: FilesEnd, path: ByteString, to: ByteString): Promise<void> {
  const above = folderOf(to);
  if (above !== '') await end.makeFolder(above, 0o700);
  await end.rename(path, to);
}
