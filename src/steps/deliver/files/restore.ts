import { asBytes, type ByteString } from '../../../core/bytes.js';
import type { JournalRecord } from '../../../core/journal.js';
import { openFiles, placeBelow } from '../../../ends/files/place.js';
import type { Move } from '../../move/open.js';
import { noteDone, type StepRun } from '../../move/step.js';
import {
  delivered,
  foldersBeside,
  pathIn,
  type Spot,
  spotOf,
  spotsOf,
  stands,
  topOf,
  withinOf,
} from './staging.js';

/** Things of a move that stand at or beside a place of the new end. */
export interface Remains {
  readonly place: string;
  /** Whether a delivery of this move put what stands there. */
  readonly delivered: boolean;
  readonly keepsake: string | undefined;
  /** Half-done things that a stopped delivery left. */
  readonly scraps: readonly string[];
}

/** What of this move stands at the new end, in the order in which it is put back. */
export async function remainsOf(move: Move, journal: readonly JournalRecord[]): Promise<Remains[]> {
  const ours = delivered(journal);
  const remains: Remains[] = [];
  for (const spot of spotsOf(move, journal)) {
    const scraps: string[] = [];
    for (const scrap of [spot.incoming, spot.outgoing])
      if (await stands(spot, scrap)) scraps.push(pathIn(spot, scrap));
    remains.push({
      place: spot.place,
      delivered: ours.has(spot.place) && (await stands(spot, spot.path)),
      keepsake: (await stands(spot, spot.keepsake)) ? pathIn(spot, spot.keepsake) : undefined,
      scraps,
    });
  }
  return remains;
}

/** Takes what was delivered away and puts the keepsake back. Safe to do again from any moment. */
export async function putBack(run: StepRun, { place, delivered: ours, keepsake }: Remains): Promise<void> {
  const { move } = run;
  const spot = spotOf(move, place, withinOf(await move.folder.readJournal()));
  await removeScraps(spot);
  if (ours) {
    const all = spot.path === '' ? (await topOf(spot.end)).map(({ path }) => path) : [spot.path];
    for (const path of all) await spot.end.remove(path);
  }
  // From here on what stands there is what stood there before, and not to be taken away by a run that comes again.
  await noteDone(run, 'undo', { taken: place });
  if (keepsake === undefined) return;
  if (spot.path !== '') return spot.end.rename(spot.keepsake, spot.path);
  for (const { path } of await topOf(openFiles(pathIn(spot, spot.keepsake))))
    await spot.end.rename(asBytes(`${spot.keepsake}/${path}`), path);
  await spot.end.remove(spot.keepsake);
}

/** Takes away what is kept and what waits beside a place. */
export async function clearBeside(move: Move, { place }: Remains): Promise<void> {
  const spot = spotOf(move, place, withinOf(await move.folder.readJournal()));
  await removeScraps(spot);
  await spot.end.remove(spot.keepsake);
}

/** Takes away the folders in which single files waited and were kept, once nothing is in them any more. */
export async function clearFolders(move: Move): Promise<void> {
  const folders = foldersBeside(move, await move.folder.readJournal());
  for (const path of folders?.paths ?? []) {
    if (await holdsNothing(placeBelow(folders!.end.place, path), '.htaccess'))
      await folders!.end.remove(path);
  }
}

async function removeScraps({ end, incoming, outgoing }: Spot): Promise<void> {
  for (const path of [incoming, outgoing] satisfies ByteString[]) await end.remove(path);
}

/** Whether a folder is there and empty. @param but a name that does not count */
export async function holdsNothing(path: string, but = ''): Promise<boolean> {
  const files = openFiles(path);
  return (await files.isThere()) && (await topOf(files)).every(entry => entry.path === but);
}
