import { type ByteString, bytesOfText, textOf } from '../../../core/bytes.js';
import type { FileEntry } from '../../../core/files/entries.js';
import type { JournalRecord } from '../../../core/journal.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import {
  openAbove,
  openFiles,
  placeAbove,
  placeBelow,
  placeName,
  restBelow,
} from '../../../ends/files/place.js';
import type { Move } from '../../move/open.js';

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
export function ownFolder(move: string): string {
  return `.able-porter.${move}`;
}

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
