import { type ByteString, bytesOfText, textOf } from '../../../core/bytes.js';
import type { FileEntry } from '../../../core/files/entries.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import type { Ledger } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';

/** A place of the new end that a delivery fills, and where things wait and are kept beside it. */
export interface StagingPaths {
  readonly place: FilesPlace;
  /** The folder that holds the paths below, outside of what visitors can fetch where this account may write there. */
  readonly folder: FilesPlace;
  readonly end: FilesEnd;
  /** Empty for everything in `end`: where the web root itself cannot be renamed. */
  readonly path: ByteString;
  /** Where the new is made ready. */
  readonly incoming: ByteString;
  /** Where what is replaced goes for a moment. */
  readonly outgoing: ByteString;
  /** Where what was there before the first delivery is kept. */
  readonly keepsake: ByteString;
  /** Where a maintenance page waits, and front files in whose place it is. */
  readonly gate: ByteString;
  /** Where what a later delivery replaces, or `undo` takes away, is kept. @param number of the keepsake */
  kept(number: number): ByteString;
}

/** The folder in which things wait and are kept, closed to everybody else: beside a site's folder or, where it must be, in it. */
export function ownFolder(move: string): string {
  return `.able-porter.${move}`;
}

/** Whether a path in a web root is that folder, or in it. */
export function isOwn(path: ByteString): boolean {
  return path.startsWith(ownFolder(''));
}

/**
 * The staging of a place: a folder, a dump, or one file of the new site, which is kept outside of its folder.
 * @param stagedInside the places whose folder cannot be renamed
 */
export function stagingOf(
  move: Move,
  place: FilesPlace,
  { stagedInside }: Pick<Ledger, 'stagedInside'>,
): StagingPaths {
  const own = ownFolder(move.sheet.name);
  const root = move.newFiles;
  const rest = root?.pathTo(place);
  if (root !== undefined && rest !== undefined && stagedInside.has(root.text)) {
    const waiting = (what: string) =>
      bytesOfText(`${own}/${what}${rest === '' ? '' : `.files/${encodeURIComponent(rest)}`}`);
    return staging(place, root, bytesOfText(rest), waiting);
  }
  const whole = root !== undefined && rest !== undefined && rest !== '' ? root : undefined;
  const beside = (what: string) =>
    bytesOfText(
      whole
        ? `${own}/${whole.name}.${what}.files/${encodeURIComponent(rest!)}`
        : `${own}/${place.name}.${what}`,
    );
  return staging(
    place,
    (whole ?? place).above,
    bytesOfText(whole ? `${whole.name}/${rest}` : place.name),
    beside,
  );
}

/** Staging beside a place, for places of which the folder around can always be written. */
export const beside = { stagedInside: new Set<string>() };

function staging(
  place: FilesPlace,
  folder: FilesPlace,
  path: ByteString,
  waiting: (what: string) => ByteString,
): StagingPaths {
  return {
    place,
    folder,
    end: folder.open(),
    path,
    incoming: waiting('incoming'),
    outgoing: waiting('outgoing'),
    keepsake: waiting('keepsake'),
    gate: waiting('gate'),
    kept: number => waiting(`keepsake${number}`),
  };
}

/** The place of a path of a staging, for messages and for opening it as an end of its own. */
export function placeIn({ folder }: StagingPaths, path: ByteString): FilesPlace {
  return folder.below(textOf(path));
}

/** The incoming folder of a staging, as an end to be filled. */
export function openIncoming(staging: StagingPaths): FilesEnd {
  return placeIn(staging, staging.incoming).open();
}

/** The places that this move fills or has filled at the new end: single files first, then folder and dump. */
export function stagingOfAll(move: Move, ledger: Ledger): StagingPaths[] {
  const own = [move.newFiles, move.newDump].filter(place => place !== undefined);
  const folders = new Map(own.map(({ above }) => [above.text, above]));
  const names = new Set(own.map(({ text }) => text));
  const single: FilesPlace[] = [];
  for (const place of ledger.touched) {
    if (names.has(place)) continue;
    for (const folder of folders.values()) {
      const rest = folder.pathTo(place);
      if (!rest) continue;
      single.push(folder.below(rest));
      break;
    }
  }
  return [...single, ...own].map(place => stagingOf(move, place, ledger));
}

/** The folders in which this move has one of its own, as far as the sheet names them. */
export function foldersWithOwn(move: Move, ledger: Ledger): FilesPlace[] {
  const folders = stagingOfAll(move, ledger).map(({ folder }) => folder);
  return [...new Map(folders.map(folder => [folder.text, folder])).values()];
}

/** Whether something is at a path of a staging. */
export async function exists({ end }: StagingPaths, path: ByteString): Promise<boolean> {
  if (path !== '') return (await end.entry(path)) !== undefined;
  return (await topLevel(end)).length > 0;
}

/** What is in a folder besides our own, index files last. */
export async function topLevel(files: FilesEnd): Promise<FileEntry[]> {
  const entries: FileEntry[] = [];
  const deeper = ({ path }: FileEntry) => path.includes('/') || isOwn(path);
  for await (const entry of files.list(deeper, new AbortController().signal)) entries.push(entry);
  const isLast = ({ path }: FileEntry) => isIndex(path);
  return [...entries.filter(entry => !isLast(entry)), ...entries.filter(isLast)];
}

/** Whether a folder is there and empty. @param but a name that does not count */
export async function isEmpty(place: FilesPlace, but = ''): Promise<boolean> {
  const files = place.open();
  return (await files.isThere()) && (await topLevel(files)).every(entry => entry.path === but);
}

/** Whether a path is that of an index file: with it a site that is only half there would show. */
export function isIndex(path: ByteString): boolean {
  return /(?:^|\/)index\.[^/]*$/i.test(path);
}
