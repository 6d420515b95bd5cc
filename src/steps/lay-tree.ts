import { asBytes, type ByteString, textOf } from '../core/bytes.js';
import { DamageError } from '../core/errors.js';
import { type CheckedEntry, entryLine, type FileEntry, readEntryLine } from '../core/files/entries.js';
import type { Finding } from '../core/findings.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openFiles } from '../ends/files/place.js';
import { inTurns } from '../ends/in-turns.js';
import { type Arrived, alreadyThere, removeOthers, sameTime, verifyArrived } from './arrival.js';
import { carry, type Way } from './carry.js';
import { CarryingProgress } from './progress.js';
import { movedFiles } from './rewrite.js';
import type { StepRun } from './run.js';
import { delivered, isIndex, isOwn, openIncoming, pathIn, type Spot, stands } from './spots.js';
import { swapIn } from './swap-in.js';

/** How a tree is put at the new end. */
export interface LayOptions {
  /** Compare what stands there by checksum, not by size and time alone. */
  readonly byContent: boolean;
  /** Take away what an earlier delivery put there and the old site no longer has. */
  readonly mirror: boolean;
  /** Where the far side can compute no checksums: read a sample back instead of all. */
  readonly sample: boolean;
}

/** A tree that waits beside its place, checked, for being put there. */
export interface ReadyTree {
  readonly spot: Spot;
  readonly incoming: FilesEnd;
  readonly entries: readonly CheckedEntry[];
  /** Whether an earlier delivery of this move stands there, of which only what changed is put anew. */
  readonly update: boolean;
  /** What stood there when this run began, of an earlier delivery. */
  readonly standing: ReadonlyMap<ByteString, FileEntry>;
  /** Files of an earlier delivery that are to be taken away. */
  readonly gone: readonly ByteString[];
  /** What of an earlier delivery stays there although the old site no longer has it. */
  readonly stays: readonly CheckedEntry[];
  /** Bytes of the whole tree. */
  readonly bytes: number;
  /** Files that were there already, at their place or beside it. */
  readonly again: number;
  readonly way: Way | undefined;
  readonly findings: readonly Finding[];
}

/** What an earlier delivery put there, in the move folder. */
const lastTree = 'results/delivered.ndjson';

/**
 * Carries the crate's files to the incoming folder of a spot, rewritten ones in place of those taken, and checks them.
 * @param others paths that are written by setting up, and not carried
 * @throws DamageError where something is not what the crate says
 */
export async function makeTreeReady(
  run: StepRun,
  spot: Spot,
  others: ReadonlySet<ByteString>,
  options: LayOptions,
): Promise<ReadyTree> {
  const { crate, folder } = run.move;
  const root = openFiles(spot.place);
  const incoming = openIncoming(spot);
  const rewritten = new Map((await crate.entries(movedFiles)).map(entry => [entry.path, entry]));
  const all = await crate.entries();
  const holds = (entry: FileEntry) =>
    incoming.takesName(entry.path) && (entry.type !== 'link' || incoming.makesLinks);
  const entries = all.filter(holds).map(entry => rewritten.get(entry.path) ?? entry);
  const files = entries.filter(({ type, path }) => type === 'file' && !others.has(path));
  const update = delivered(await folder.readJournal()).has(spot.place) && (await stands(spot, spot.path));
  const standing = update ? await listed(root, run.signal) : new Map<ByteString, FileEntry>();
  const before = await readLastTree(run);
  const wanted = new Set(all.map(({ path }) => path));
  const stale = removable(
    before.map(({ path }) => path).filter(path => !wanted.has(path)),
    standing,
  );

  const inPlace = await alreadyThere(
    root,
    files,
    standing,
    run.signal,
    options.byContent ? 'content' : 'time',
  );
  const missing = files.filter(({ path }) => !inPlace.whole.has(path));
  const structure = entries.filter(
    entry => entry.type !== 'file' && differs(root, standing.get(entry.path), entry),
  );
  const progress = new CarryingProgress(run.events, files);
  const arrived = await fill(run, incoming, [...structure, ...missing]);
  for (const entry of files)
    if (inPlace.whole.has(entry.path) || arrived.whole.has(entry.path)) progress.done(entry);
  const toCarry = missing.filter(({ path }) => !arrived.whole.has(path));
  const sourceOf = ({ path }: FileEntry) => (rewritten.has(path) ? crate.movedFiles : crate.files);
  const cargo = { to: incoming, signal: run.signal, begun: arrived.begun, progress, pace: run.pace };
  const sums = new Map<ByteString, string>();
  let way: Way | undefined;
  for (const from of [crate.files, crate.movedFiles]) {
    const own = toCarry.filter(({ path }) => rewritten.has(path) === (from.place === crate.movedFiles.place));
    const carried = await carry({ ...cargo, from }, own);
    for (const [path, sum] of carried.sums) sums.set(path, sum);
    way ??= carried.way;
  }
  const wrong = toCarry.find(({ path, sha256 }) => sums.get(path) !== sha256);
  if (wrong) {
    throw new DamageError({
      doing: `Delivering ${textOf(wrong.path)}`,
      cause: 'it is not what the crate says it should be',
      remedy: 'Pack again; what was changed by hand cannot be trusted to be whole',
    });
  }
  const findings = notTaken(incoming, all);
  const unseen = missing.filter(({ path }) => !arrived.verified.has(path));
  if (incoming.far && unseen.length > 0) {
    const verified = await verifyArrived({ ...cargo, from: sourceOf }, unseen, options.sample, arrived.begun);
    if (verified < unseen.length) {
      findings.push({
        level: 'note',
        code: 'read-back-sample',
        place: spot.place,
        what: `${verified} of ${unseen.length} files were read back and compared; of the others only the size is known`,
        remedy: 'Run "able-porter check" for a comparison of every file, when there is time',
      });
    }
  }
  if (!update) {
    for (const entry of entries.filter(({ type }) => type === 'folder').reverse())
      await incoming.finishFolder(entry.path, entry);
  }
  if (!options.mirror) {
    const what =
      stale.length === 1
        ? 'thing of an earlier delivery is no longer at the old site, and stays at the new one'
        : 'things of an earlier delivery are no longer at the old site, and stay at the new one';
    const remedy = 'Run "able-porter deliver --mirror" to take them away';
    findings.push(...several('files-gone-stay', 'note', spot.place, stale, what, remedy));
  }
  return {
    spot,
    incoming,
    entries,
    update,
    standing,
    gone: options.mirror ? stale : [],
    stays: options.mirror ? [] : before.filter(({ path }) => !wanted.has(path) && standing.has(path)),
    bytes: entries.reduce((sum, { size }) => sum + size, 0),
    again: inPlace.whole.size + arrived.whole.size,
    way,
    findings,
  };
}

/** Puts a ready tree in its place; gives the paths of what is kept. */
export async function putTree(run: StepRun, tree: ReadyTree): Promise<string[]> {
  const kept = await (tree.update ? mergeIn(run, tree) : swapIn(run, tree.spot));
  // For the next time: what is ours, and may be taken away once the old site no longer has it.
  const lines = [...tree.entries, ...tree.stays].map(entry => `${entryLine(entry)}\n`);
  await run.move.folder.write(lastTree, lines.join(''));
  return kept;
}

async function readLastTree(run: StepRun): Promise<CheckedEntry[]> {
  const text = await run.move.folder.read(lastTree);
  return text?.split('\n').filter(Boolean).map(readEntryLine) ?? [];
}

/** Makes folders and links in the incoming folder; tells what of the files an earlier run brought there. */
async function fill(run: StepRun, incoming: FilesEnd, wanted: readonly CheckedEntry[]): Promise<Arrived> {
  const there = await removeOthers(incoming, wanted, run.signal);
  for (const entry of wanted)
    if (entry.type === 'folder' && !there.has(entry.path)) await incoming.makeFolder(entry.path, entry.mode);
  const links = wanted.filter(({ type, path, to }) => type === 'link' && there.get(path)?.to !== to);
  await inTurns(links, incoming.atOnce, run.signal, entry => incoming.makeLink(entry.path, entry.to!));
  const files = wanted.filter(({ type }) => type === 'file');
  return alreadyThere(incoming, files, there, run.signal, 'resume');
}

/**
 * Puts what waits in the incoming folder among what an earlier delivery put there: file by file, each by renaming,
 * index files last. Safe to do again from any moment.
 */
async function mergeIn(run: StepRun, tree: ReadyTree): Promise<string[]> {
  const { spot, incoming, entries, standing, gone } = tree;
  const root = openFiles(spot.place);
  const at = (path: ByteString) => asBytes(spot.path === '' ? path : `${spot.path}/${path}`);
  const modes = new Map(entries.map(({ path, mode }) => [path, mode]));
  const waiting = [...(await listed(incoming, run.signal)).values()];
  for (const { path, type, mode, to } of waiting) {
    const there = standing.get(path);
    if (there && there.type !== type) await root.remove(path);
    if (type === 'link') await root.makeLink(path, to!);
    if (type === 'folder' && there?.type !== 'folder') await root.makeFolder(path, modes.get(path) ?? mode);
  }
  const put = ({ path }: FileEntry) => spot.end.replace(asBytes(`${spot.incoming}/${path}`), at(path));
  const files = waiting.filter(({ type }) => type === 'file');
  const early = files.filter(({ path }) => !isIndex(path));
  await inTurns(early, root.atOnce, run.signal, put);
  for (const entry of files.filter(({ path }) => isIndex(path))) await put(entry);
  // The deepest first, so that a folder is empty when its turn comes.
  for (const path of [...gone].reverse()) await root.remove(path);
  const touched = new Set(
    [...waiting.map(({ path }) => path), ...gone].flatMap(path => [path, folderOf(path)]),
  );
  const unfinished = entries.filter(
    entry =>
      entry.type === 'folder' && (touched.has(entry.path) || differs(root, standing.get(entry.path), entry)),
  );
  for (const entry of unfinished.reverse()) await root.finishFolder(entry.path, entry);
  await spot.end.remove(spot.incoming);
  return (await stands(spot, spot.keepsake)) ? [pathIn(spot, spot.keepsake)] : [];
}

/** Files and links of a list that still stand, and those folders of it in which nothing else does. */
function removable(paths: readonly ByteString[], standing: ReadonlyMap<ByteString, FileEntry>): ByteString[] {
  const listed = new Set(paths);
  const kept = new Set<ByteString>();
  for (const path of standing.keys()) {
    if (listed.has(path)) continue;
    for (let above = folderOf(path); above !== ''; above = folderOf(above)) kept.add(above);
  }
  return paths.filter(path => standing.has(path) && !kept.has(path));
}

function folderOf(path: ByteString): ByteString {
  return asBytes(path.slice(0, Math.max(0, path.lastIndexOf('/'))));
}

/** Whether a folder or link stands there otherwise than it should. */
function differs(end: FilesEnd, there: FileEntry | undefined, wanted: FileEntry): boolean {
  if (there?.type !== wanted.type || there.to !== wanted.to) return true;
  return wanted.type === 'folder' && !sameTime(end, there.mtime, wanted.mtime);
}

async function listed(end: FilesEnd, signal: AbortSignal): Promise<Map<ByteString, FileEntry>> {
  const entries = new Map<ByteString, FileEntry>();
  for await (const entry of end.list(one => isOwn(one.path), signal)) entries.set(entry.path, entry);
  return entries;
}

/** What of the crate the new end cannot hold. */
function notTaken(end: FilesEnd, entries: readonly FileEntry[]): Finding[] {
  return [
    ...several(
      'name-not-taken',
      'warn',
      end.place,
      entries.filter(({ path }) => !end.takesName(path)).map(({ path }) => path),
      'names cannot be told to the new end and were left out',
      'Rename them at the old site, or use another protocol',
    ),
    ...several(
      'link-not-made',
      'warn',
      end.place,
      entries.filter(({ type }) => type === 'link' && !end.makesLinks).map(({ path }) => path),
      'symbolic links cannot be made over this protocol and were left out',
      'Use SFTP, or make copies of what they lead to',
    ),
  ];
}

function several(
  code: Finding['code'],
  level: Finding['level'],
  place: string,
  paths: readonly ByteString[],
  what: string,
  remedy: string,
): Finding[] {
  if (paths.length === 0) return [];
  return [{ level, code, place: `${place}/${textOf(paths[0]!)}`, what: `${paths.length} ${what}`, remedy }];
}
