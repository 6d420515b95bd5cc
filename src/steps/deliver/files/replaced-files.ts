import { appendFile, mkdir, rm } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import pMap from 'p-map';
import { asBytes, type ByteString } from '../../../core/bytes.js';
import { type FileEntry, folderOf } from '../../../core/files/entries.js';
import { linesOf } from '../../../ends/move-folder/entry-list.js';
import { whileDoing } from '../../../ends/system-errors.js';
import type { KeptFiles } from '../../move/ledger.js';
import type { Move } from '../../move/open.js';
import { noteDeed, type StepRun } from '../../move/step.js';
import { placeIn, type StagingPaths } from './staging.js';

/** So many entries are written down at once. */
const noted = 256;

/** A keepsake of single files of a place: those that are replaced are moved into it, and what is new is written down. */
export class ReplacedFiles {
  private readonly staging: StagingPaths;
  private readonly folder: ByteString;
  private readonly made = new Set<ByteString>();
  private readonly newFiles: NewFiles;

  private constructor({ move }: StepRun, staging: StagingPaths, number: number) {
    this.staging = staging;
    this.folder = staging.kept(number);
    this.newFiles = new NewFiles(move, number);
  }

  /** Notes that files will be kept. */
  static async begin(
    run: StepRun,
    step: 'deliver' | 'undo',
    staging: StagingPaths,
    number: number,
  ): Promise<ReplacedFiles> {
    const keepsake = placeIn(staging, staging.kept(number)).text;
    const by = step === 'deliver' ? 'delivery' : 'undo';
    await noteDeed(run, step, { kind: 'files kept', place: staging.place.text, keepsake, number, by });
    return new ReplacedFiles(run, staging, number);
  }

  /** Where they are. */
  get keepsake(): string {
    return placeIn(this.staging, this.folder).text;
  }

  /** Whether something is kept of a path already. */
  async has(path: ByteString): Promise<boolean> {
    return (await this.staging.end.entry(this.keptPath(path))) !== undefined;
  }

  /** Keeps a file that is there. What an interrupted run has kept stays. */
  async keep(path: ByteString): Promise<void> {
    if (await this.has(path)) return;
    await this.staging.end.rename(livePath(this.staging, path), await this.placeFor(path));
  }

  /** Puts a file in place of one that is there, which is kept. What an interrupted run has kept stays. */
  async exchange(path: ByteString, from: ByteString): Promise<void> {
    const { end } = this.staging;
    const live = livePath(this.staging, path);
    if (await this.has(path)) await end.replace(from, live);
    else await end.exchange(from, live, await this.placeFor(path));
  }

  /** Writes down what is about to be put where nothing is. */
  async noteNew(entries: readonly Pick<FileEntry, 'path' | 'type'>[]): Promise<void> {
    await this.newFiles.add(entries);
  }

  private async placeFor(path: ByteString): Promise<ByteString> {
    const to = this.keptPath(path);
    const above = folderOf(to);
    if (!this.made.has(above)) await this.staging.end.makeFolder(above, 0o700);
    this.made.add(above);
    return to;
  }

  private keptPath(path: ByteString): ByteString {
    return asBytes(`${this.folder}/${path}`);
  }
}

/** What was put where nothing had been, in the move folder, so that it can be taken away when a keepsake is restored. */
class NewFiles {
  private readonly file: string;

  constructor({ folder }: Move, number: number) {
    this.file = folder.at(join('keepsake', String(number), 'new.ndjson'));
  }

  async add(entries: readonly Pick<FileEntry, 'path' | 'type'>[]): Promise<void> {
    if (entries.length === 0) return;
    const lines = entries.map(({ path, type }) => `${JSON.stringify([path, type === 'folder'])}\n`);
    await whileDoing(`Writing ${this.file}`, async () => {
      await mkdir(dirname(this.file), { recursive: true, mode: 0o700 });
      await appendFile(this.file, lines.join(''), { mode: 0o600, flush: true });
    });
  }

  async *read(): AsyncIterable<{ path: ByteString; isFolder: boolean }> {
    for await (const lines of linesOf(this.file))
      for (const line of lines) {
        // A line that was cut short belongs to something that was not put any more.
        if (!line.endsWith(']')) continue;
        const [path, isFolder] = JSON.parse(line) as [string, boolean];
        yield { path: asBytes(path), isFolder };
      }
  }

  async forget(): Promise<void> {
    await rm(this.file, { force: true });
  }
}

function livePath({ path: root }: StagingPaths, path: ByteString): ByteString {
  return asBytes(root === '' ? path : `${root}/${path}`);
}

/** Exchanges the files of a keepsake with what is in their places now, which is kept under another number. Safe to repeat. */
export async function exchangeSingle(
  run: StepRun,
  staging: StagingPaths,
  { number }: KeptFiles,
  keeps: number,
): Promise<void> {
  const { end } = staging;
  const from = staging.kept(number);
  const replaced = await ReplacedFiles.begin(run, 'undo', staging, keeps);
  const files = placeIn(staging, from).open();
  const isThere = await files.isThere();
  const inKeepsake = async (path: ByteString) =>
    isThere && (await end.entry(asBytes(`${from}/${path}`))) !== undefined;
  // What is new goes first: later nobody could tell it from what has come back.
  const added = new NewFiles(run.move, number);
  const folders: ByteString[] = [];
  for await (const { path, isFolder } of added.read()) {
    if (isFolder) folders.push(path);
    else if (!(await inKeepsake(path)) && (await end.entry(livePath(staging, path))))
      await replaced.keep(path);
  }
  for (const path of folders.sort().reverse()) await removeEmpty(staging, path);
  await added.forget();
  if (!isThere) return;
  const putBack = async (path: ByteString) => {
    const live = livePath(staging, path);
    const kept = asBytes(`${from}/${path}`);
    if (await end.entry(live)) return replaced.exchange(path, kept);
    if (folderOf(live) !== '') await end.makeFolder(folderOf(live), 0o755);
    await end.replace(kept, live);
  };
  let some: FileEntry[] = [];
  const putSome = async () => {
    const unknown: FileEntry[] = [];
    for (const entry of some)
      if (!(await end.entry(livePath(staging, entry.path))) && !(await replaced.has(entry.path)))
        unknown.push(entry);
    await replaced.noteNew(unknown);
    await pMap(some, ({ path }) => putBack(path), { concurrency: end.atOnce, signal: run.signal });
    some = [];
  };
  for await (const entry of files.list(() => false, run.signal))
    if (entry.type !== 'folder' && some.push(entry) >= noted) await putSome();
  await putSome();
  await end.remove(from);
}

async function removeEmpty(staging: StagingPaths, path: ByteString): Promise<void> {
  const { end } = staging;
  const live = livePath(staging, path);
  if ((await end.entry(live))?.type !== 'folder') return;
  const folder = placeIn(staging, live).open();
  for await (const _ of folder.list(() => false, new AbortController().signal)) return;
  await end.remove(live);
}
