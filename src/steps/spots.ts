import { type ByteString, bytesOfText, textOf } from '../core/bytes.js';
import { UsageError } from '../core/errors.js';
import type { JournalRecord } from '../core/journal.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openAbove, openFiles, placeAbove, placeBelow, placeName } from '../ends/files/place.js';
import type { Move } from './move.js';
import { noteDone, type StepRun } from './run.js';

/** A place of the new end that a delivery fills, and where things wait and are kept beside it. */
export interface Spot {
  readonly place: string;
  /** The end in which the paths below lie: above whatever visitors can fetch. */
  readonly end: FilesEnd;
  readonly path: ByteString;
  readonly incoming: ByteString;
  readonly outgoing: ByteString;
  readonly keepsake: ByteString;
}

/** The spot of a place: a folder, a dump, or one file of the new site, which is kept outside of its folder. */
export function spotOf(move: Move, place: string): Spot {
  const root = move.newFiles;
  const inside = root !== undefined && place.startsWith(`${root}/`);
  const { above: end, name } = openAbove(inside ? root : place);
  const beside = (what: string) =>
    bytesOfText(
      inside
        ? `.${placeName(root)}.${move.sheet.name}.${what}.files/${encodeURIComponent(place.slice(root.length + 1))}`
        : `.${placeName(place)}.${move.sheet.name}.${what}`,
    );
  return {
    place,
    end,
    path: inside ? bytesOfText(`${placeName(root)}/${place.slice(root.length + 1)}`) : name,
    incoming: beside('incoming'),
    outgoing: beside('outgoing'),
    keepsake: beside('keepsake'),
  };
}

/** The path of a thing of a spot, for messages and for opening it as an end of its own. */
export function pathIn({ end }: Spot, path: ByteString): string {
  return placeBelow(end.place, textOf(path));
}

/** The incoming folder of a spot, as an end to be filled. */
export function openIncoming(spot: Spot): FilesEnd {
  return openFiles(pathIn(spot, spot.incoming));
}

/** The places that this move fills or has filled at the new end: single files first, then folder and dump. */
export function spotsOf(move: Move, journal: readonly JournalRecord[]): Spot[] {
  const own = [move.newFiles, move.newDump].filter(place => place !== undefined);
  const noted = new Set(
    journal.flatMap(({ did }) => [did?.puts, did?.of]).filter(place => place !== undefined),
  );
  const near = own.map(place => placeAbove(place));
  const single = [...noted].filter(
    place => !own.includes(place) && near.some(folder => place.startsWith(`${folder}/`)),
  );
  return [...single, ...own].map(place => spotOf(move, place));
}

/** The folders in which single files of the new site wait and are kept. */
export function foldersOfSingles({
  newFiles,
  sheet,
}: Move): { end: FilesEnd; paths: ByteString[] } | undefined {
  if (newFiles === undefined) return undefined;
  const whats = ['incoming', 'outgoing', 'keepsake'];
  return {
    end: openAbove(newFiles).above,
    paths: whats.map(what => bytesOfText(`.${placeName(newFiles)}.${sheet.name}.${what}.files`)),
  };
}

/** Whether something stands at a path of a spot. */
export async function stands(spot: Spot, path: ByteString): Promise<boolean> {
  return (await spot.end.entry(path)) !== undefined;
}

/**
 * Puts what is ready at its place by renaming. What stood there becomes the keepsake, unless an earlier delivery
 * of this move put it there. Each change is noted before it is made, so that it can be taken back from any moment.
 * @param puts whether something is ready; if not, what stands there is only taken away
 * @returns the paths of what is kept
 */
export async function swapIn(run: StepRun, spot: Spot, puts = true): Promise<string[]> {
  const { end, path, incoming, outgoing, keepsake, place } = spot;
  await end.remove(outgoing);
  if (await stands(spot, path)) {
    const ours = delivered(await run.move.folder.readJournal()).has(place);
    if (!ours && (await stands(spot, keepsake))) {
      throw new UsageError({
        doing: `Putting ${place} in place`,
        cause: `something new stands there, and ${pathIn(spot, keepsake)} already keeps what stood there before`,
        remedy: 'Move one of the two away by hand, then run the command again',
      });
    }
    if (!ours) await noteDone(run, 'deliver', { keeps: pathIn(spot, keepsake), of: place });
    await moveAside(end, path, ours ? outgoing : keepsake);
  }
  await noteDone(run, 'deliver', { puts: place });
  if (puts) await end.rename(incoming, path);
  await end.remove(outgoing);
  return (await stands(spot, keepsake)) ? [pathIn(spot, keepsake)] : [];
}

async function moveAside(end: FilesEnd, path: ByteString, to: ByteString): Promise<void> {
  if (to.includes('/')) await end.makeFolder(to.slice(0, to.indexOf('/')) as ByteString, 0o700);
  await end.rename(path, to);
}

/** The places at which something stands that a delivery put there, by the journal. */
export function delivered(journal: readonly JournalRecord[]): Set<string> {
  const places = new Set<string>();
  for (const { step, event, did } of journal) {
    if (step === 'undo' && event === 'done') places.clear();
    if (did?.puts) places.add(did.puts);
  }
  return places;
}
