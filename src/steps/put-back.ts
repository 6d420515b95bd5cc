import type { ByteString } from '../core/bytes.js';
import type { JournalRecord } from '../core/journal.js';
import { openFiles, placeBelow } from '../ends/files/place.js';
import type { Move } from './move.js';
import { delivered, foldersOfSingles, pathIn, type Spot, spotOf, spotsOf, stands } from './spots.js';

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
export async function putBack(move: Move, { place, delivered: ours, keepsake }: Remains): Promise<void> {
  const spot = spotOf(move, place);
  await removeScraps(spot);
  if (ours) await spot.end.remove(spot.path);
  if (keepsake !== undefined) await spot.end.rename(spot.keepsake, spot.path);
}

/** Takes away what is kept and what waits beside a place. */
export async function clearBeside(move: Move, { place }: Remains): Promise<void> {
  const spot = spotOf(move, place);
  await removeScraps(spot);
  await spot.end.remove(spot.keepsake);
}

/** Takes away the folders in which single files waited and were kept, once nothing is in them any more. */
export async function clearFolders(move: Move): Promise<void> {
  const folders = foldersOfSingles(move);
  for (const path of folders?.paths ?? []) {
    if (await isEmptyFolder(placeBelow(folders!.end.place, path))) await folders!.end.remove(path);
  }
}

async function removeScraps({ end, incoming, outgoing }: Spot): Promise<void> {
  for (const path of [incoming, outgoing] satisfies ByteString[]) await end.remove(path);
}

/** Places of the new end at which something stands that this move did not put there, and that delivery would keep. */
export async function wouldReplace(move: Move): Promise<string[]> {
  const ours = delivered(await move.folder.readJournal());
  const places: string[] = [];
  for (const place of [move.newFiles, move.newDump].filter(one => one !== undefined)) {
    const spot = spotOf(move, place);
    if (!ours.has(place) && (await stands(spot, spot.path)) && !(await isEmptyFolder(place)))
      places.push(place);
  }
  return places;
}

async function isEmptyFolder(path: string): Promise<boolean> {
  const files = openFiles(path);
  if (!(await files.isThere())) return false;
  for await (const _ of files.list(() => false, new AbortController().signal)) return false;
  return true;
}
