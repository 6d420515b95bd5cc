import { asBytes, type ByteString } from '../../../core/bytes.js';
import { DamageError } from '../../../core/errors.js';
import { folderOf } from '../../../core/files/entries.js';
import { type KeptFiles, type Ledger, ledgerOf } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { keptPath } from './kept-files.js';
import { makeOwnFolder } from './own-folder.js';
import { exchangeSingle } from './replaced-files.js';
import { exists, placeIn, type StagingPaths, stagingOfAll, topLevel } from './staging.js';

/** Things of a move that are at or beside a place of the new end. */
export interface Remains {
  readonly place: string;
  readonly staging: StagingPaths;
  /** Whether a delivery of this move put what is there. */
  readonly delivered: boolean;
  readonly keepsake: string | undefined;
  /** Half-done things that an interrupted delivery left. */
  readonly scraps: readonly string[];
  /** The numbers of later keepsakes, of deliveries and of `undo`. */
  readonly later: readonly number[];
}

/** @throws DamageError where what was there before the first delivery was kept and is not there any more */
export function requireKeepsakes(remains: readonly Remains[], { keepsakes }: Ledger): void {
  for (const { place, delivered, keepsake } of remains) {
    if (!delivered || keepsake !== undefined) continue;
    for (const { files } of keepsakes.values())
      for (const one of files)
        if (one.kind === 'kept' && one.by === 'first delivery' && one.place === place)
          throw new DamageError({
            doing: `Restoring ${place}`,
            cause: `what was there before the first delivery was kept as ${one.keepsake}, which is not there any more`,
            remedy: 'Nothing was changed. Put it back from a backup, then undo again',
          });
  }
}

/** What of this move is at the new end, in the order in which it is restored. */
export async function remainsOf(move: Move, ledger: Ledger): Promise<Remains[]> {
  const remains: Remains[] = [];
  for (const staging of stagingOfAll(move, ledger)) {
    const place = staging.place.text;
    const scraps: string[] = [];
    for (const scrap of [staging.incoming, staging.outgoing, staging.gate])
      if (await exists(staging, scrap)) scraps.push(placeIn(staging, scrap).text);
    const later: number[] = [];
    for (const number of ledger.keepsakes.keys())
      if (await exists(staging, staging.kept(number))) later.push(number);
    remains.push({
      place,
      staging,
      delivered: ledger.delivered.has(place) && (await exists(staging, staging.path)),
      keepsake: (await exists(staging, staging.keepsake))
        ? placeIn(staging, staging.keepsake).text
        : undefined,
      scraps,
      later,
    });
  }
  return remains;
}

/**
 * Takes what was delivered away and puts the keepsake back. Safe to repeat from any moment.
 * @param keeps the number under which what is taken away is kept; left out where nobody has changed it
 */
export async function putBack(
  run: StepRun,
  { place, staging, delivered: ours, keepsake }: Remains,
  keeps: number | undefined,
): Promise<void> {
  await removeScraps(staging);
  const back = keepsake === undefined ? undefined : staging.keepsake;
  const isExchanged = ours && back !== undefined && staging.path !== '';
  if (isExchanged) await noteDeed(run, 'undo', { kind: 'exchanging', place });
  if (ours && keeps !== undefined) await keepWhole(run, staging, keeps, { back });
  else if (ours) await moveAside(run, staging, staging.outgoing, back);
  // From here on what is there is what was there before; a repeated run must not take it away.
  await noteDeed(run, 'undo', { kind: 'taken away', place });
  if (back !== undefined && !isExchanged) await bringBack(staging, back);
  await staging.end.remove(staging.outgoing);
  const { keepsakes } = await ledgerOf(run.move);
  for (const { number, files } of keepsakes.values())
    if (files.some(one => one.kind === 'kept' && one.by === 'first delivery' && one.place === place))
      await noteDeed(run, 'undo', { kind: 'keepsake gone', number, what: 'files' });
}

/**
 * Moves all that is at a place into a keepsake. What no delivery has put there is again what was there before the first.
 * @param back what comes in its place, see `moveAside`
 */
async function keepWhole(
  run: StepRun,
  staging: StagingPaths,
  number: number,
  { back, by = 'undo' }: { readonly back: ByteString | undefined; readonly by?: 'undo' | 'first delivery' },
): Promise<void> {
  const folder = by === 'undo' ? staging.kept(number) : staging.keepsake;
  const keepsake = placeIn(staging, folder).text;
  await noteDeed(run, 'undo', { kind: 'kept', place: staging.place.text, keepsake, number, by });
  await moveAside(run, staging, folder, back);
}

/** @param back what is put in its place at the same moment, where the place itself can be renamed */
async function moveAside(
  run: StepRun,
  { end, path, folder }: StagingPaths,
  aside: ByteString,
  back: ByteString | undefined,
): Promise<void> {
  await makeOwnFolder(run, folder);
  await end.makeFolder(folderOf(aside), 0o700);
  if (path !== '' && back !== undefined) return end.exchange(back, path, aside);
  if (path !== '') return end.rename(path, aside);
  await end.makeFolder(aside, 0o700);
  for (const { path: one } of await topLevel(end)) await end.rename(one, asBytes(`${aside}/${one}`));
}

/** Moves what is kept of a place as a whole back to it. */
async function bringBack(staging: StagingPaths, kept: ByteString): Promise<void> {
  const { end, path } = staging;
  if (path !== '') return end.rename(kept, path);
  for (const { path: one, type } of await topLevel(placeIn(staging, kept).open())) {
    const from = asBytes(`${kept}/${one}`);
    // A page may be there that an interrupted delivery shows in its place.
    if (type === 'file') await end.replace(from, one);
    else await end.rename(from, one);
  }
  await end.remove(kept);
}

/** Exchanges what is at a place with what is kept of it, as a whole or single files. Safe to repeat. */
export async function exchangeFiles(
  run: StepRun,
  staging: StagingPaths,
  kept: KeptFiles,
  keeps: number,
): Promise<void> {
  const { path } = staging;
  const from = keptPath(staging, kept);
  if (kept.kind === 'kept') {
    const isThere = await exists(staging, path);
    const isOurs =
      (await ledgerOf(run.move)).delivered.has(kept.place) || (await exists(staging, staging.keepsake));
    if (isThere && (await exists(staging, from)))
      await keepWhole(run, staging, keeps, { back: from, by: isOurs ? 'undo' : 'first delivery' });
    if (await exists(staging, from)) await bringBack(staging, from);
    await noteDeed(run, 'undo', { kind: 'put', place: kept.place });
    return;
  }
  await exchangeSingle(run, staging, kept, keeps);
}

/** Removes what is kept and what waits beside a place. */
export async function clearBeside({ staging, later }: Remains): Promise<void> {
  await removeScraps(staging);
  await staging.end.remove(staging.keepsake);
  for (const number of later) await staging.end.remove(staging.kept(number));
}

async function removeScraps({ end, incoming, outgoing, gate }: StagingPaths): Promise<void> {
  for (const path of [incoming, outgoing, gate]) await end.remove(path);
}
