import { readdir } from 'node:fs/promises';
import type { JournalRecord } from '../core/journal.js';
import { openAbove } from '../ends/files/place.js';
import { besides, delivered } from './deliver.js';
import type { Move } from './move.js';

/** Things of a move that stand at or beside a place of the new end. */
export interface Remains {
  readonly place: string;
  /** Whether a delivery of this move put what stands there. */
  readonly delivered: boolean;
  readonly keepsake: string | undefined;
  /** Half-done things that a stopped delivery left. */
  readonly scraps: readonly string[];
}

/** What of this move stands at the new end. */
export async function remainsOf(move: Move, journal: readonly JournalRecord[]): Promise<Remains[]> {
  const ours = delivered(journal);
  const remains: Remains[] = [];
  for (const place of [move.newFiles, move.newDump].filter(one => one !== undefined)) {
    const { incoming, outgoing, keepsake } = besides(move, place);
    const scraps: string[] = [];
    for (const scrap of [incoming, outgoing]) if (await stands(scrap)) scraps.push(scrap);
    remains.push({
      place,
      delivered: ours.has(place) && (await stands(place)),
      keepsake: (await stands(keepsake)) ? keepsake : undefined,
      scraps,
    });
  }
  return remains;
}

/** Takes what was delivered away and puts the keepsake back. Safe to do again from any moment. */
export async function putBack({ place, delivered: ours, keepsake, scraps }: Remains): Promise<void> {
  for (const scrap of scraps) await remove(scrap);
  if (ours) await remove(place);
  if (keepsake === undefined) return;
  const { above, name } = openAbove(place);
  await above.rename(openAbove(keepsake).name, name);
}

/** Removes a folder or file at or beside a place of the new end. */
export async function remove(path: string): Promise<void> {
  const { above, name } = openAbove(path);
  await above.remove(name);
}

async function stands(path: string): Promise<boolean> {
  const { above, name } = openAbove(path);
  return (await above.entry(name)) !== undefined;
}

/** Places of the new end at which something stands that this move did not put there, and that delivery would keep. */
export async function wouldReplace(move: Move): Promise<string[]> {
  const ours = delivered(await move.folder.readJournal());
  const places: string[] = [];
  for (const place of [move.newFiles, move.newDump].filter(one => one !== undefined)) {
    if (!ours.has(place) && (await stands(place)) && !(await isEmptyFolder(place))) places.push(place);
  }
  return places;
}

async function isEmptyFolder(path: string): Promise<boolean> {
  try {
    return (await readdir(path)).length === 0;
  } catch {
    return false;
  }
}
