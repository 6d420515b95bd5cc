import type { Move } from '../move/open.js';
import { tablesInTheWay } from './database/replace-tables.js';
import { holdsNothing } from './files/restore.js';
import { delivered, spotOf, stands, withinOf } from './files/staging.js';

/** Places of the new end at which something stands that this move did not put there, and that delivery would keep. */
export async function wouldReplace(move: Move): Promise<string[]> {
  const journal = await move.folder.readJournal();
  const ours = delivered(journal);
  const places: string[] = [];
  for (const place of [move.newFiles, move.newDump].filter(one => one !== undefined)) {
    const spot = spotOf(move, place, withinOf(journal));
    if (!ours.has(place) && (await stands(spot, spot.path)) && !(await holdsNothing(place)))
      places.push(place);
  }
  const tables = await tablesInTheWay(move);
  if (tables !== undefined) places.push(tables);
  return places;
}
