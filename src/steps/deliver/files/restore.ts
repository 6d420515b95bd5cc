import { asBytes } from '../../../core/bytes.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { type Ledger, ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { exists, foldersBeside, placeIn, type StagingPaths, stagingOfAll, topLevel } from './staging.js';

/** Things of a move that are at or beside a place of the new end. */
export interface Remains {
  readonly place: string;
  readonly staging: StagingPaths;
  /** Whether a delivery of this move put what is there. */
  readonly delivered: boolean;
  readonly keepsake: string | undefined;
  /** Half-done things that an interrupted delivery left. */
  readonly scraps: readonly string[];
}

/** What of this move is at the new end, in the order in which it is restored. */
export async function remainsOf(move: Move, ledger: Ledger): Promise<Remains[]> {
  const remains: Remains[] = [];
  for (const staging of stagingOfAll(move, ledger)) {
    const place = staging.place.text;
    const scraps: string[] = [];
    for (const scrap of [staging.incoming, staging.outgoing])
      if (await exists(staging, scrap)) scraps.push(placeIn(staging, scrap).text);
    remains.push({
      place,
      staging,
      delivered: ledger.delivered.has(place) && (await exists(staging, staging.path)),
      keepsake: (await exists(staging, staging.keepsake))
        ? placeIn(staging, staging.keepsake).text
        : undefined,
      scraps,
    });
  }
  return remains;
}

/** Takes what was delivered away and puts the keepsake back. Safe to repeat from any moment. */
export async function putBack(
  run: StepRun,
  { place, staging, delivered: ours, keepsake }: Remains,
): Promise<void> {
  await removeScraps(staging);
  if (ours) {
    const all = staging.path === '' ? (await topLevel(staging.end)).map(({ path }) => path) : [staging.path];
    for (const path of all) await staging.end.remove(path);
  }
  // From here on what is there is what was there before; a repeated run must not take it away.
  await noteDeed(run, 'undo', { kind: 'taken away', place });
  if (keepsake === undefined) return;
  if (staging.path !== '') return staging.end.rename(staging.keepsake, staging.path);
  for (const { path } of await topLevel(placeIn(staging, staging.keepsake).open()))
    await staging.end.rename(asBytes(`${staging.keepsake}/${path}`), path);
  await staging.end.remove(staging.keepsake);
}

/** Removes what is kept and what waits beside a place. */
export async function clearBeside({ staging }: Remains): Promise<void> {
  await removeScraps(staging);
  await staging.end.remove(staging.keepsake);
}

/** Removes the folders in which single files waited and were kept, once nothing is in them any more. */
export async function clearFolders(move: Move): Promise<void> {
  const beside = foldersBeside(move, await ledgerOf(move));
  if (!beside) return;
  const end = beside.folder.open();
  for (const path of beside.paths)
    if (await isEmpty(beside.folder.below(path), '.htaccess')) await end.remove(path);
}

async function removeScraps({ end, incoming, outgoing }: StagingPaths): Promise<void> {
  for (const path of [incoming, outgoing]) await end.remove(path);
}

/** Whether a folder is there and empty. @param but a name that does not count */
export async function isEmpty(place: FilesPlace, but = ''): Promise<boolean> {
  const files = place.open();
  return (await files.isThere()) && (await topLevel(files)).every(entry => entry.path === but);
}
