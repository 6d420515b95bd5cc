import { rm } from 'node:fs/promises';
import pMap from 'p-map';
import { asBytes, type ByteString } from '../../../core/bytes.js';
import { byDepth, type CheckedEntry, type FileEntry, folderOf } from '../../../core/files/entries.js';
import { alongside } from '../../../core/files/order.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import { finishFolders, makeFolders } from '../../../ends/files/folders.js';
import type { Crate } from '../../../ends/move-folder/crate.js';
import { movedFiles } from '../../../ends/move-folder/crate.js';
import { readEntryList, writeEntryList } from '../../../ends/move-folder/entry-list.js';
import { ledgerOf } from '../../move/ledger.js';
import type { StepRun } from '../../move/step.js';
import { keptOf } from './kept-files.js';
import { ReplacedFiles } from './replaced-files.js';
import { differs, lastTree, type StagedTree, standingTree, wantedAt } from './stage-tree.js';
import { isIndex, isOwn } from './staging.js';
import { swapIn } from './swap.js';

/**
 * Puts a ready tree in its place; gives the paths of what is kept.
 * @param keepsReplaced whether files of an earlier delivery are kept that are replaced or removed
 */
export async function publishTree(run: StepRun, tree: StagedTree, keepsReplaced: boolean): Promise<string[]> {
  const { folder } = run.move;
  const kept = await (tree.update ? mergeIn(run, tree, keepsReplaced) : swapIn(run, tree.staging));
  // For the next time: what is ours, and may be removed once the old site no longer has it.
  await writeEntryList(folder.at(lastTree), seenAt(run, tree, oursOf(run.move.crate, tree)));
  await rm(folder.at(standingTree), { force: true });
  return kept;
}

/** What of the new end is ours. */
async function* oursOf(crate: Crate, { incoming, stays }: StagedTree): AsyncIterable<CheckedEntry> {
  const lists = alongside({
    taken: crate.entries(),
    moved: crate.entries(movedFiles),
    stays: asList(stays),
  });
  for await (const { taken, moved, stays: staying } of lists) {
    const ours = [...wantedAt(incoming, taken, moved), ...staying.values()];
    yield* ours.sort((a, b) => (a.path < b.path ? -1 : 1));
  }
}

/** The same with the times that a server gave them which sets none as it is asked to. */
async function* seenAt(
  run: StepRun,
  { staging }: StagedTree,
  ours: AsyncIterable<CheckedEntry>,
): AsyncIterable<CheckedEntry> {
  const root = staging.place.open();
  if (root.setsTimes !== false) {
    yield* ours;
    return;
  }
  const lists = alongside({ ours, there: root.list(({ path }) => isOwn(path), run.signal) });
  for await (const { ours: some, there } of lists)
    for (const entry of some.values()) yield { ...entry, seen: there.get(entry.path)?.mtime };
}

async function* asList(entries: readonly CheckedEntry[]): AsyncIterable<CheckedEntry> {
  yield* entries;
}

/**
 * Puts what waits in the incoming folder among what an earlier delivery put there: file by file, each by renaming,
 * index files last. Safe to do again from any moment.
 */
async function mergeIn(run: StepRun, tree: StagedTree, keepsReplaced: boolean): Promise<string[]> {
  const { staging, incoming, gone } = tree;
  const { folder, crate } = run.move;
  const root = staging.place.open();
  const at = (path: ByteString) => asBytes(staging.path === '' ? path : `${staging.path}/${path}`);
  const number = (await ledgerOf(run.move)).numberOfDelivery;
  const replaced = keepsReplaced ? await ReplacedFiles.begin(run, 'deliver', staging, number) : undefined;
  const wasThere = new Set<ByteString>();
  const put = async (path: ByteString) => {
    const waiting = asBytes(`${staging.incoming}/${path}`);
    if (replaced && wasThere.has(path)) await replaced.exchange(path, waiting);
    else await staging.end.replace(waiting, at(path));
  };
  const late: ByteString[] = [];
  const folders: { entry: FileEntry; differs: boolean }[] = [];
  const touched = new Set<ByteString>();
  const lists = alongside({
    waiting: incoming.list(({ path }) => isOwn(path), run.signal),
    taken: crate.entries(),
    standing: readEntryList(folder.at(standingTree), { ofEnd: true }),
  });
  for await (const { waiting, taken, standing } of lists) {
    await replaced?.noteNew([...waiting.values()].filter(({ path }) => !standing.has(path)));
    const early: ByteString[] = [];
    const made: FileEntry[] = [];
    const links: { path: ByteString; to: ByteString }[] = [];
    for (const entry of waiting.values()) {
      const { path, type, mode, to } = entry;
      const there = standing.get(path);
      if (there?.type === 'file') wasThere.add(path);
      if (there && there.type !== type) {
        if (there.type === 'file') await replaced?.keep(path);
        await root.remove(path);
      }
      if (type === 'link') links.push({ path, to: to! });
      if (type === 'folder' && there?.type !== 'folder')
        made.push({ ...entry, mode: taken.get(path)?.mode ?? mode });
      if (type === 'file') (isIndex(path) ? late : early).push(path);
      touched.add(type === 'folder' ? path : folderOf(path));
    }
    await makeFolders(root, made, run.signal);
    await pMap(links, ({ path, to }) => root.makeLink(path, to), {
      concurrency: root.atOnce,
      signal: run.signal,
    });
    await pMap(early, put, { concurrency: root.atOnce, signal: run.signal });
    for (const entry of taken.values())
      if (entry.type === 'folder')
        folders.push({ entry, differs: differs(root, standing.get(entry.path), entry) });
  }
  for (const path of late) await put(path);
  await removeGone(run, root, gone, replaced);
  for (const path of gone) touched.add(folderOf(path));
  const unfinished = folders.filter(one => one.differs || touched.has(one.entry.path));
  const inside = unfinished.reverse().map(({ entry }) => entry);
  await finishFolders(root, inside, run.signal);
  await staging.end.remove(staging.incoming);
  return [...(await keptOf(staging)), ...(replaced ? [replaced.keepsake] : [])];
}

/** Removes what the old site no longer has; files of it are kept where that is wanted. */
async function removeGone(
  { signal }: StepRun,
  root: FilesEnd,
  gone: readonly ByteString[],
  replaced: ReplacedFiles | undefined,
): Promise<void> {
  const many = { concurrency: root.atOnce, signal };
  const entries = await pMap(gone, path => root.entry(path), many);
  const isFolder = (i: number) => entries[i]?.type === 'folder';
  const others = gone.filter((_, i) => entries[i] && !isFolder(i));
  await pMap(
    others,
    async path => {
      await replaced?.keep(path);
      await root.remove(path);
    },
    many,
  );
  // The deepest first, so that a folder is empty when its turn comes.
  const folders = gone.filter((_, i) => isFolder(i));
  for (const level of byDepth(folders, path => path).reverse())
    await pMap(level, path => root.remove(path), many);
}
