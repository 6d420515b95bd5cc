import { asBytes, type ByteString, bytesOfText, textOf } from '../core/bytes.js';
import { PartWayError, UsageError } from '../core/errors.js';
import type { FileEntry } from '../core/files/entries.js';
import type { JournalRecord } from '../core/journal.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openAbove, openFiles, placeAbove, placeBelow, placeName, restBelow } from '../ends/files/place.js';
import type { Move } from './move.js';
import { noteDone, type StepRun } from './run.js';

/** A place of the new end that a delivery fills, and where things wait and are kept beside it. */
export interface Spot {
  readonly place: string;
  /** The end in which the paths below lie: above whatever visitors can fetch, where this account may write there. */
  readonly end: FilesEnd;
  /** Empty for all that stands in `end`: where the web root itself cannot be renamed. */
  readonly path: ByteString;
  readonly incoming: ByteString;
  readonly outgoing: ByteString;
  readonly keepsake: ByteString;
}

/** The folder in which things wait and are kept where that must be in the web root itself. */
const ownFolder = (name: string) => `.able-porter.${name}`;

/** Whether a path in a web root is that folder, or in it. */
export function isOwn(path: ByteString): boolean {
  return path.startsWith(ownFolder(''));
}

/**
 * The spot of a place: a folder, a dump, or one file of the new site, which is kept outside of its folder.
 * @param within the places whose folder cannot be renamed, by the journal
 */
export function spotOf(move: Move, place: string, within: ReadonlySet<string>): Spot {
  const root = move.newFiles;
  const rest = root === undefined ? undefined : restBelow(place, root);
  if (root !== undefined && rest !== undefined && within.has(root)) {
    const waiting = (what: string) =>
      bytesOfText(
        `${ownFolder(move.sheet.name)}/${what}${rest === '' ? '' : `.files/${encodeURIComponent(rest)}`}`,
      );
    return spot(place, openFiles(root), bytesOfText(rest), waiting);
  }
  const inside = root !== undefined && rest !== undefined && rest !== '';
  const { above, name } = openAbove(inside ? root : place);
  const beside = (what: string) =>
    bytesOfText(
      inside
        ? `.${placeName(root)}.${move.sheet.name}.${what}.files/${encodeURIComponent(rest)}`
        : `.${placeName(place)}.${move.sheet.name}.${what}`,
    );
  return spot(place, above, inside ? bytesOfText(`${placeName(root)}/${rest}`) : name, beside);
}

function spot(place: string, end: FilesEnd, path: ByteString, waiting: (what: string) => ByteString): Spot {
  const [incoming, outgoing, keepsake] = ['incoming', 'outgoing', 'keepsake'].map(waiting);
  return { place, end, path, incoming: incoming!, outgoing: outgoing!, keepsake: keepsake! };
}

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

/** The places whose folder cannot be renamed, by the journal. */
export function withinOf(journal: readonly JournalRecord[]): Set<string> {
  return new Set(journal.flatMap(({ did }) => did?.within ?? []));
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
    place => !own.includes(place) && near.some(folder => restBelow(place, folder)),
  );
  const within = withinOf(journal);
  return [...single, ...own].map(place => spotOf(move, place, within));
}

/** The folders in which single files of the new site wait and are kept, and that in the web root if there is one. */
export function foldersBeside(
  { newFiles, sheet }: Move,
  journal: readonly JournalRecord[],
): { end: FilesEnd; paths: ByteString[] } | undefined {
  if (newFiles === undefined) return undefined;
  const whats = ['incoming', 'outgoing', 'keepsake'];
  if (withinOf(journal).has(newFiles)) {
    const own = ownFolder(sheet.name);
    const singles = whats.map(what => bytesOfText(`${own}/${what}.files`));
    return { end: openFiles(newFiles), paths: [...singles, bytesOfText(own)] };
  }
  return {
    end: openAbove(newFiles).above,
    paths: whats.map(what => bytesOfText(`.${placeName(newFiles)}.${sheet.name}.${what}.files`)),
  };
}

/** Whether something stands at a path of a spot. */
export async function stands(spot: Spot, path: ByteString): Promise<boolean> {
  if (path !== '') return (await spot.end.entry(path)) !== undefined;
  return (await topOf(spot.end)).length > 0;
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

/** What stands in a folder besides our own, index files last. */
export async function topOf(files: FilesEnd): Promise<FileEntry[]> {
  const entries: FileEntry[] = [];
  const deeper = ({ path }: FileEntry) => path.includes('/') || isOwn(path);
  for await (const entry of files.list(deeper, new AbortController().signal)) entries.push(entry);
  const isLast = ({ path }: FileEntry) => isIndex(path);
  return [...entries.filter(entry => !isLast(entry)), ...entries.filter(isLast)];
}

/** Whether a path is that of an index file: with it a half-put site would show. */
export function isIndex(path: ByteString): boolean {
  return /(?:^|\/)index\.[^/]*$/i.test(path);
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
  const slash = to.lastIndexOf('/');
  if (slash > 0) await end.makeFolder(asBytes(to.slice(0, slash)), 0o700);
  await end.rename(path, to);
}

/** The places at which something stands that a delivery put there, by the journal. */
export function delivered(journal: readonly JournalRecord[]): Set<string> {
  const places = new Set<string>();
  for (const { step, event, did } of journal) {
    if (step === 'undo' && event === 'done') places.clear();
    if (did?.puts) places.add(did.puts);
    if (did?.taken) places.delete(did.taken);
  }
  return places;
}
