import pMap from 'p-map';
import { type ByteString, textOf } from '../../../core/bytes.js';
import { DamageError } from '../../../core/errors.js';
import { type CheckedEntry, type FileEntry, folderOf } from '../../../core/files/entries.js';
import { alongside, type Slice } from '../../../core/files/order.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import type { FilesEnd } from '../../../ends/files/files-end.js';
import { finishFolders, makeFolders } from '../../../ends/files/folders.js';
import type { Crate } from '../../../ends/move-folder/crate.js';
import { movedFiles } from '../../../ends/move-folder/crate.js';
import { readEntryList, writeEntryList } from '../../../ends/move-folder/entry-list.js';
import { ledgerOf } from '../../move/ledger.js';
import type { StepRun } from '../../move/step.js';
import { TransferProgress } from '../../transfer/progress.js';
import { type TransferMethod, transferFiles } from '../../transfer/transfer.js';
import {
  type Arrived,
  alreadyThere,
  listStanding,
  Removal,
  sameTime,
  verifyArrived,
} from '../../transfer/verify.js';
import { exists, isOwn, openIncoming, type StagingPaths } from './staging.js';

/** How a tree is put at the new end. */
export interface TreeOptions {
  /** Compare what is there by checksum, not by size and time alone. */
  readonly byContent: boolean;
  /** Remove what an earlier delivery put there and the old site no longer has. */
  readonly mirror: boolean;
  /** Where the far side can compute no checksums: read a sample back instead of all. */
  readonly sample: boolean;
  /** What is there was listed a moment ago. */
  readonly isListed?: boolean;
}

/** A tree that waits beside its place, checked, for being put there. */
export interface StagedTree {
  readonly staging: StagingPaths;
  readonly incoming: FilesEnd;
  /** How many files it has, and bytes in them. */
  readonly files: number;
  readonly bytes: number;
  /** Whether an earlier delivery of this move is there, of which only what changed is put again. */
  readonly update: boolean;
  /** Those of the paths written by setting up that are there of an earlier delivery. */
  readonly standing: ReadonlySet<ByteString>;
  /** The folders in which paths written by setting up lie, the deepest first. */
  readonly above: readonly FileEntry[];
  /** Files of an earlier delivery that are to be removed. */
  readonly gone: readonly ByteString[];
  /** What of an earlier delivery stays there although the old site no longer has it. */
  readonly stays: readonly CheckedEntry[];
  /** Files that were there already, at their place or beside it. */
  readonly again: number;
  readonly way: TransferMethod | undefined;
  readonly findings: readonly Finding[];
}

/** What an earlier delivery put there, and what was there when this one began; in the move folder. */
export const lastTree = 'results/delivered.ndjson';
export const standingTree = 'results/standing.ndjson';

/**
 * Carries the crate's files to the incoming folder of a staging, rewritten ones in place of those taken, and checks them.
 * @param others paths that are written by setting up, and not carried
 * @throws DamageError where something is not what the crate says
 */
export async function stageTree(
  run: StepRun,
  staging: StagingPaths,
  others: ReadonlySet<ByteString>,
  options: TreeOptions,
): Promise<StagedTree> {
  const { crate, folder } = run.move;
  const root = staging.place.open();
  const incoming = openIncoming(staging);
  const update = await isUpdate(run, staging);
  if (!options.isListed) await listStandingTree(run, staging);
  const all = await countOf(crate, incoming, others);
  const progress = new TransferProgress(run.events, () => all);
  const treeStaging = new TreeStaging({ run, staging, root, incoming, others, options, progress });
  const lists = alongside({
    taken: crate.entries(),
    moved: crate.entries(movedFiles),
    standing: readEntryList(folder.at(standingTree), { ofEnd: true }),
    before: readEntryList(folder.at(lastTree), {
      remedy:
        'Remove this file; the next delivery then leaves at the new end what the old site no longer has',
    }),
    there: listStanding(incoming, treeStaging.removal.gone, run.signal),
  });
  for await (const slice of lists) await treeStaging.stage(slice);
  return treeStaging.ready(update);
}

/** Whether an earlier delivery of this move is at a place, of which only what changed is put again. */
async function isUpdate(run: StepRun, staging: StagingPaths): Promise<boolean> {
  return (await ledgerOf(run.move)).delivered.has(staging.place.text) && exists(staging, staging.path);
}

/** Lists what an earlier delivery of this move left at a place, into the move folder. @returns whether one is there */
export async function listStandingTree(run: StepRun, staging: StagingPaths): Promise<boolean> {
  const update = await isUpdate(run, staging);
  const list = update ? staging.place.open().list(({ path }) => isOwn(path), run.signal) : [];
  await writeEntryList(run.move.folder.at(standingTree), list);
  return update;
}

/** What an end is to hold of what was taken, with what was rewritten in its place. */
export function wantedAt(
  end: FilesEnd,
  taken: ReadonlyMap<ByteString, CheckedEntry>,
  moved: ReadonlyMap<ByteString, CheckedEntry>,
): CheckedEntry[] {
  return [...taken.values()]
    .filter(({ path, type }) => end.takesName(path) && (type !== 'link' || end.makesLinks))
    .map(entry => moved.get(entry.path) ?? entry);
}

/** How many files are to be carried, and bytes in them. */
async function countOf(
  crate: Crate,
  end: FilesEnd,
  others: ReadonlySet<ByteString>,
): Promise<{ files: number; bytes: number }> {
  const all = { files: 0, bytes: 0 };
  for await (const { taken, moved } of alongside({
    taken: crate.entries(),
    moved: crate.entries(movedFiles),
  })) {
    for (const { type, path, size } of wantedAt(end, taken, moved)) {
      if (type !== 'file' || others.has(path)) continue;
      all.files++;
      all.bytes += size;
    }
  }
  return all;
}

interface StagingTerms {
  readonly run: StepRun;
  readonly staging: StagingPaths;
  readonly root: FilesEnd;
  readonly incoming: FilesEnd;
  readonly others: ReadonlySet<ByteString>;
  readonly options: TreeOptions;
  readonly progress: TransferProgress;
}

type StagingSlice = Slice<{
  taken: AsyncIterable<CheckedEntry>;
  moved: AsyncIterable<CheckedEntry>;
  standing: AsyncIterable<FileEntry>;
  before: AsyncIterable<CheckedEntry>;
  there: AsyncIterable<FileEntry>;
}>;

/** Makes a tree ready, some of its entries after the others. */
class TreeStaging {
  readonly removal: Removal;
  private readonly terms: StagingTerms;
  private readonly all = { files: 0, bytes: 0, again: 0 };
  private way: TransferMethod | undefined;
  /** Those of the others that are there. */
  private readonly standing = new Set<ByteString>();
  private readonly folders: FileEntry[] = [];
  private readonly stale = new Stale();
  private readonly untellable: ByteString[] = [];
  private readonly unlinked: ByteString[] = [];
  private readonly readBack = { compared: 0, of: 0 };

  constructor(terms: StagingTerms) {
    this.terms = terms;
    this.removal = new Removal(terms.incoming);
  }

  async stage({ taken, moved, standing, before, there }: StagingSlice): Promise<void> {
    const { run, root, incoming, others, options, progress } = this.terms;
    const entries = wantedAt(incoming, taken, moved);
    const files = entries.filter(({ type, path }) => type === 'file' && !others.has(path));
    this.look(taken, entries, standing);
    this.stale.look(taken, standing, before);
    const how = options.byContent ? 'content' : 'time';
    const inPlace = await alreadyThere(root, files, standing, run.signal, how, before);
    const missing = files.filter(({ path }) => !inPlace.whole.has(path));
    const structure = entries.filter(
      entry => entry.type !== 'file' && differs(root, standing.get(entry.path), entry),
    );
    const arrived = await this.fill([...structure, ...missing], there);
    for (const entry of files)
      if (inPlace.whole.has(entry.path) || arrived.whole.has(entry.path)) progress.done(entry);
    this.all.again += inPlace.whole.size + arrived.whole.size;
    await this.transfer(
      missing.filter(({ path }) => !arrived.whole.has(path)),
      moved,
      arrived,
    );
    await this.verify(
      missing.filter(({ path }) => !arrived.verified.has(path)),
      moved,
      arrived,
    );
  }

  /** Notes what is asked for in the end. */
  private look(
    taken: ReadonlyMap<ByteString, CheckedEntry>,
    entries: readonly CheckedEntry[],
    standing: ReadonlyMap<ByteString, FileEntry>,
  ): void {
    const { incoming, others } = this.terms;
    for (const { path, type } of taken.values()) {
      if (!incoming.takesName(path)) this.untellable.push(path);
      else if (type === 'link' && !incoming.makesLinks) this.unlinked.push(path);
    }
    for (const entry of entries) {
      this.all.bytes += entry.size;
      if (entry.type === 'file') this.all.files++;
      if (entry.type === 'folder') this.folders.push(entry);
    }
    for (const path of others) if (standing.has(path)) this.standing.add(path);
  }

  /** Makes folders and links in the incoming folder; says what of the files an earlier run brought there. */
  private async fill(
    wanted: readonly CheckedEntry[],
    there: ReadonlyMap<ByteString, FileEntry>,
  ): Promise<Arrived> {
    const { incoming, run } = this.terms;
    const stays = await this.removal.ofOthers(new Map(wanted.map(entry => [entry.path, entry])), there);
    const folders = wanted.filter(({ type, path }) => type === 'folder' && !stays.has(path));
    await makeFolders(incoming, folders, run.signal);
    const links = wanted.filter(({ type, path, to }) => type === 'link' && stays.get(path)?.to !== to);
    await pMap(links, entry => incoming.makeLink(entry.path, entry.to!), {
      concurrency: incoming.atOnce,
      signal: run.signal,
    });
    const files = wanted.filter(({ type }) => type === 'file');
    return alreadyThere(incoming, files, stays, run.signal, 'resume');
  }

  private async transfer(
    files: readonly CheckedEntry[],
    moved: { has(path: ByteString): boolean },
    { begun }: Arrived,
  ): Promise<void> {
    const { run, incoming, progress } = this.terms;
    const { crate } = run.move;
    const job = { to: incoming, signal: run.signal, begun, progress, rate: run.rate };
    const transfer = async (isMoved: boolean) => {
      const all = files.filter(({ path }) => moved.has(path) === isMoved);
      const fetched = isMoved ? new Set<ByteString>() : await this.fetch(all);
      const own = all.filter(({ path }) => !fetched.has(path));
      const from = isMoved ? crate.movedFiles : crate.files;
      const sent = await transferFiles({ ...job, from }, own);
      const { sums } = sent;
      const way = fetched.size > 0 ? 'from host to host' : sent.way;
      const wrong = own.find(({ path, sha256 }) => sums.get(path) !== sha256);
      return { way, wrong };
    };
    const both = [transfer(false), transfer(true)];
    // None continues unnoticed where the other fails.
    await Promise.allSettled(both);
    for (const { way, wrong } of await Promise.all(both)) {
      this.way ??= way;
      if (!wrong) continue;
      throw new DamageError({
        doing: `Delivering ${textOf(wrong.path)}`,
        cause: 'it is not what the crate says it should be',
        remedy: 'Pack again; what was changed by hand cannot be trusted to be whole',
      });
    }
  }

  /** Lets the new host take from the old one what is there as it was taken; it is compared like all else. */
  private async fetch(files: readonly CheckedEntry[]): Promise<ReadonlySet<ByteString>> {
    const { run, incoming, progress } = this.terms;
    const old = run.move.oldFiles?.hatch && run.move.oldFiles.open();
    const came = new Set<ByteString>();
    if (!old || !incoming.fetchMany || files.length === 0) return came;
    await incoming.fetchMany(old, files, run.signal, file => {
      came.add(file.path);
      progress.passed(file, file.size);
      progress.done(file);
    });
    return came;
  }

  private async verify(
    unseen: readonly CheckedEntry[],
    moved: { has(path: ByteString): boolean },
    { begun }: Arrived,
  ): Promise<void> {
    const { run, incoming, progress, options } = this.terms;
    if (!incoming.far || unseen.length === 0) return;
    const { crate } = run.move;
    const from = ({ path }: FileEntry) => (moved.has(path) ? crate.movedFiles : crate.files);
    const job = { to: incoming, from, signal: run.signal, progress, rate: run.rate };
    this.readBack.compared += await verifyArrived(job, unseen, options.sample, begun);
    this.readBack.of += unseen.length;
  }

  async ready(update: boolean): Promise<StagedTree> {
    const { run, staging, incoming, others, options } = this.terms;
    const folders = this.folders.reverse();
    if (!update) await finishFolders(incoming, folders, run.signal);
    const { gone, stays } = this.stale.found();
    const { files, bytes, again } = this.all;
    return {
      staging,
      incoming,
      files,
      bytes,
      again,
      update,
      standing: this.standing,
      above: folders.filter(({ path }) => [...others].some(one => one.startsWith(`${path}/`))),
      gone: options.mirror ? gone : [],
      stays: options.mirror ? [] : stays,
      way: this.way,
      findings: this.findings(gone),
    };
  }

  private findings(gone: readonly ByteString[]): Finding[] {
    const { staging, incoming, options } = this.terms;
    const findings = [
      ...pathsFinding(incoming.place, this.untellable, {
        code: 'name-not-taken',
        level: 'warn',
        what: 'names cannot be sent to the new end and were left out',
        remedy: 'Rename them at the old site, or use another protocol',
      }),
      ...pathsFinding(incoming.place, this.unlinked, {
        code: 'link-not-made',
        level: 'warn',
        what: 'symbolic links cannot be made over this protocol and were left out',
        remedy: 'Use SFTP, or make copies of what they lead to',
      }),
    ];
    const { compared, of } = this.readBack;
    if (compared < of) {
      findings.push(
        finding({
          level: 'note',
          code: 'read-back-sample',
          place: staging.place.text,
          what: `${compared} of ${of} files were read back and compared; of the others only the size is known`,
          remedy: 'Run "able-porter check" for a comparison of every file, when there is time',
        }),
      );
    }
    if (options.mirror) return findings;
    const what =
      gone.length === 1
        ? 'file or folder of an earlier delivery is no longer at the old site, and stays at the new one'
        : 'files and folders of an earlier delivery are no longer at the old site, and stay at the new one';
    const remedy = 'Run "able-porter deliver --mirror" to remove them';
    return [
      ...findings,
      ...pathsFinding(staging.place.text, gone, { code: 'files-gone-stay', level: 'note', what, remedy }),
    ];
  }
}

/** Looks for what an earlier delivery put at the new end and the old site no longer has. */
class Stale {
  private readonly entries: CheckedEntry[] = [];
  /** Folders in which something else is. */
  private readonly kept = new Set<ByteString>();

  look(
    wanted: ReadonlyMap<ByteString, FileEntry>,
    standing: ReadonlyMap<ByteString, FileEntry>,
    before: ReadonlyMap<ByteString, CheckedEntry>,
  ): void {
    for (const [path, entry] of before) if (!wanted.has(path) && standing.has(path)) this.entries.push(entry);
    for (const path of standing.keys()) {
      if (before.has(path) && !wanted.has(path)) continue;
      for (let above = folderOf(path); above !== '' && !this.kept.has(above); above = folderOf(above))
        this.kept.add(above);
    }
  }

  /** All that is still there, and what of it may go: files and links, and those folders in which nothing else is. */
  found(): { gone: ByteString[]; stays: readonly CheckedEntry[] } {
    const gone = this.entries.map(({ path }) => path).filter(path => !this.kept.has(path));
    return { gone, stays: this.entries };
  }
}

/** Whether a folder or link is there otherwise than it should. */
export function differs(end: FilesEnd, there: FileEntry | undefined, wanted: FileEntry): boolean {
  if (there?.type !== wanted.type || there.to !== wanted.to) return true;
  return wanted.type === 'folder' && !sameTime(end, there.mtime, wanted.mtime);
}

/** A finding about paths, which begins with their number; none where there are none. */
function pathsFinding(
  place: string,
  paths: readonly ByteString[],
  { code, level, what, remedy }: Pick<Finding, 'code' | 'level' | 'what' | 'remedy'>,
): Finding[] {
  if (paths[0] === undefined) return [];
  return [
    finding({ level, code, place: `${place}/${textOf(paths[0])}`, what: `${paths.length} ${what}`, remedy }),
  ];
}
