import type { FilesPlace } from '../../ends/files/place.js';
import { removeHatch } from '../../ends/hatch/place.js';
import { ledgerOf } from '../move/ledger.js';
import type { Move } from '../move/open.js';
import { noteDeed } from '../move/step.js';

/** Takes away the hatches of this run, and those that a killed one left. */
export async function closeHatches(move: Move): Promise<void> {
  for (const { hatch } of placesOf(move)) {
    await hatch?.close();
    await hatch?.removeLeft();
  }
  const { hatches } = await ledgerOf(move);
  for (const [name, at] of hatches)
    for (const place of placesOf(move)) {
      // The sheet speaks of no hatch any more.
      if (place.hatch || place.text !== at) continue;
      const note = () => noteDeed({ move }, 'tidy', { kind: 'hatch gone', name });
      await removeHatch({ folder: place.open(), above: place.above.open(), note }, name);
    }
}

/** What is left of hatches at both ends, as FTP and HTTP see it; undefined where none was ever there. */
export async function hatchRemains(move: Move, signal: AbortSignal): Promise<string[] | undefined> {
  const { records, hatches } = await ledgerOf(move);
  const places = new Set(records.flatMap(({ deed }) => (deed?.kind === 'hatch put' ? [deed.place] : [])));
  if (places.size === 0) return undefined;
  const found: string[] = [];
  for (const { text, hatch } of placesOf(move))
    if (hatch && places.has(text)) found.push(...(await hatch.remains(signal)));
  // Of a place that the sheet does not name any more, only the journal knows.
  for (const [name, at] of hatches) found.push(`${at}/${name}.php`);
  return [...new Set(found)];
}

function placesOf({ oldPlace, newFiles }: Move): FilesPlace[] {
  return [oldPlace, newFiles].filter(place => place !== undefined);
}
