import { type ByteString, bytesOfText, textOf } from '../../../core/bytes.js';
import type { CheckedEntry, FileEntry } from '../../../core/files/entries.js';
import { alongside, type Slice } from '../../../core/files/order.js';
import { leftOut } from '../../../core/files/patterns.js';
import type { Family } from '../../../core/site/families/family.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import type { FilesPlace } from '../../../ends/files/place.js';
import { movedFiles } from '../../../ends/move-folder/crate.js';
import { readEntryList } from '../../../ends/move-folder/entry-list.js';
import { ledgerOf } from '../../move/ledger.js';
import type { StepRun } from '../../move/step.js';
import { sameTime } from '../../transfer/verify.js';
import { lastTree, standingTree, type TreeOptions, wantedAt } from './stage-tree.js';
import type { StagingPaths } from './staging.js';

/** A file that somebody has changed or made at the new site since it was delivered. */
export interface EditedFile {
  readonly path: ByteString;
  /** When, in milliseconds since 1970. */
  readonly mtime: number;
}

type Lists = {
  taken: AsyncIterable<CheckedEntry>;
  moved: AsyncIterable<CheckedEntry>;
  standing: AsyncIterable<FileEntry>;
  before: AsyncIterable<CheckedEntry>;
};

/**
 * The files at the new site that are not as they were delivered and that the next delivery would replace or remove. What is
 * there was listed before (`listStandingTree`).
 */
export async function editedSince(
  run: StepRun,
  staging: StagingPaths,
  family: Family,
  options: Pick<TreeOptions, 'mirror' | 'byContent'>,
): Promise<EditedFile[]> {
  const root = staging.place.open();
  const edited: EditedFile[] = [];
  for await (const slice of slicesOf(run)) {
    const candidates = await candidatesIn(run, root, slice, options);
    edited.push(...(await reallyEdited(run, root, candidates)));
  }
  return withoutSelfWritten(edited, family);
}

/** The files of the new site that are not as they were delivered: changed or new. What the site writes by itself is not. */
export async function writtenFiles(
  run: StepRun,
  staging: StagingPaths,
  family: Family,
): Promise<EditedFile[]> {
  const root = staging.place.open();
  const { setUp, settingUp } = await ledgerOf(run.move);
  const written: EditedFile[] = [];
  for await (const { taken, moved, standing, before } of slicesOf(run)) {
    const wanted = new Map(wantedAt(root, taken, moved).map(entry => [entry.path, entry]));
    const candidates: Candidate[] = [];
    for (const [path, there] of standing) {
      if (there.type !== 'file') continue;
      // What an interrupted delivery has put there is its own, too.
      const known = [before.get(path), wanted.get(path)].filter(one => one !== undefined);
      const own = [setUp.get(textOf(path)), settingUp.get(textOf(path))].filter(one => one !== undefined);
      if (known.length + own.length === 0) written.push({ path, mtime: there.mtime });
      else if (own.length > 0 || !known.some(last => !isTouched(root, there, last)))
        candidates.push({ there, known: [...own, ...known.map(({ sha256 }) => sha256)] });
    }
    written.push(...(await reallyEdited(run, root, candidates)));
  }
  return withoutSelfWritten(written, family);
}

/** Files one folder above the new site that a delivery put there and that somebody has changed since; their paths begin with `../`. */
export async function editedAbove({ move, signal }: StepRun): Promise<EditedFile[]> {
  const { newFiles } = move;
  const { setUp, settingUp, delivered } = await ledgerOf(move);
  const paths = [...new Set([...setUp.keys(), ...settingUp.keys()])].filter(
    path => path.startsWith('../') && newFiles && delivered.has(placeAbove(newFiles, path)),
  );
  if (!newFiles || paths.length === 0) return [];
  const end = newFiles.above.open();
  const names = paths.map(path => bytesOfText(path.slice(3)));
  const [entries, sums] = await Promise.all([
    Promise.all(names.map(name => end.entry(name))),
    end.checksums(names, signal),
  ]);
  return paths.flatMap((path, i) => {
    const entry = entries[i];
    const known = [setUp.get(path), settingUp.get(path)];
    return entry?.type === 'file' && !known.includes(sums.get(names[i]!))
      ? [{ path: bytesOfText(path), mtime: entry.mtime }]
      : [];
  });
}

/** The place of a file one folder above a site, from its path that begins with `../`. */
export function placeAbove(site: FilesPlace, path: string): string {
  return site.above.below(path.slice(3)).text;
}

function slicesOf({ move: { crate, folder } }: StepRun): AsyncIterable<Slice<Lists>> {
  return alongside({
    taken: crate.entries(),
    moved: crate.entries(movedFiles),
    standing: readEntryList(folder.at(standingTree), { ofEnd: true }),
    before: readEntryList(folder.at(lastTree), {
      remedy: 'Remove this file; the next delivery then takes every file at the new end for somebody else’s',
    }),
  });
}

/** A file that may have been edited, and the checksums that it would have if it was not. */
interface Candidate {
  readonly there: FileEntry;
  readonly known: readonly (string | undefined)[];
}

async function candidatesIn(
  run: StepRun,
  root: FilesEnd,
  { taken, moved, standing, before }: Slice<Lists>,
  { mirror, byContent }: Pick<TreeOptions, 'mirror' | 'byContent'>,
): Promise<Candidate[]> {
  const { setUp, settingUp } = await ledgerOf(run.move);
  const wanted = new Map(wantedAt(root, taken, moved).map(entry => [entry.path, entry]));
  const candidates: Candidate[] = [];
  for (const [path, there] of standing) {
    if (there.type !== 'file') continue;
    const next = wanted.get(path);
    const last = before.get(path);
    const own = setUp.get(textOf(path));
    const isReplaced = next !== undefined || own !== undefined || settingUp.has(textOf(path));
    const isRemoved = mirror && last !== undefined && !next;
    if (!isReplaced && !isRemoved) continue;
    // What setting up wrote is known by its checksum alone.
    if (own === undefined && last && !byContent && !isTouched(root, there, last)) continue;
    const pending = settingUp.get(textOf(path));
    const known = own === undefined ? last?.sha256 : undefined;
    candidates.push({ there, known: [own, pending, known, next?.sha256] });
  }
  return candidates;
}

function isTouched(root: FilesEnd, there: FileEntry, last: CheckedEntry): boolean {
  return there.size !== last.size || !sameTime(root, there.mtime, last.seen ?? last.mtime);
}

async function reallyEdited(
  { signal }: StepRun,
  root: FilesEnd,
  candidates: readonly Candidate[],
): Promise<EditedFile[]> {
  const sums = await root.checksums(
    candidates.map(({ there }) => there.path),
    signal,
  );
  return candidates
    .filter(({ there, known }) => !known.includes(sums.get(there.path)))
    .map(({ there: { path, mtime } }) => ({ path, mtime }));
}

/** Caches, logs and what else a site of the family makes again. */
function withoutSelfWritten(files: readonly EditedFile[], family: Family): EditedFile[] {
  const isOut = leftOut([...family.without, '*.log', 'error_log', 'cache/']);
  const inside = (path: ByteString): boolean => {
    for (let at = path.indexOf('/'); at > 0; at = path.indexOf('/', at + 1))
      if (isOut({ path: path.slice(0, at) as ByteString, type: 'folder' })) return true;
    return isOut({ path, type: 'file' });
  };
  return files.filter(({ path }) => !inside(path));
}
