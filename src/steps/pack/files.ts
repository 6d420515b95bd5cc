import { rm } from 'node:fs/promises';
import { type ByteString, bytesOfText, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import { type CheckedEntry, type FileEntry, linkStaysInside, plainMode } from '../../core/files/entries.js';
import { NameLook } from '../../core/files/names.js';
import { ahead, alongside, together } from '../../core/files/order.js';
import { notTaken } from '../../core/files/patterns.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import type { Family } from '../../core/site/families/family.js';
import { counted } from '../../core/text/numbers.js';
import { parseSize, sizeText } from '../../core/text/sizes.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import type { CratePart } from '../../ends/move-folder/crate-part.js';
import { readEntryList, writeEntryList } from '../../ends/move-folder/entry-list.js';
import { identityOfTree, TreeIdentity } from '../move/identity.js';
import { ledgerOf } from '../move/ledger.js';
import type { StepRun } from '../move/step.js';
import { TransferProgress } from '../transfer/progress.js';
import { type TransferMethod, transferFiles } from '../transfer/transfer.js';
import { listStanding, Removal } from '../transfer/verify.js';
import { NotTaken } from './not-taken.js';
import { PartialFiles } from './partial-files.js';

/** What of the old site's files the sheet wants, with findings on what may not arrive. */
export class WantedFiles {
  private readonly run: StepRun;
  private readonly files: FilesEnd;
  private readonly look: Looking;
  /** Where it is listed before anything is taken. */
  private readonly listing: string;
  private isListed = false;
  private coming: AsyncIterable<FileEntry> | undefined;

  constructor(run: StepRun, files: FilesEnd) {
    this.run = run;
    this.files = files;
    this.look = new Looking(files.place);
    this.listing = run.move.folder.at('.listing.ndjson');
  }

  /** Lists all of it, so that it is known before anything is taken. */
  async list(): Promise<void> {
    await writeEntryList(this.listing, this.asTheyCome());
    this.isListed = true;
  }

  /** Begins to list it; it is taken while it is listed. @throws EndError where nothing can be listed */
  async begin(): Promise<void> {
    const entries = ahead(this.asTheyCome(), together)[Symbol.asyncIterator]();
    const first = await entries.next();
    this.coming = (async function* () {
      try {
        for (let next = first; !next.done; next = await entries.next()) yield next.value;
      } finally {
        await entries.return?.();
      }
    })();
  }

  /** All of it, in the order of the paths. */
  entries(): AsyncIterable<FileEntry> {
    return this.isListed ? readEntryList(this.listing) : this.coming!;
  }

  /** As far as it is listed: all, where nothing more comes. */
  get counts(): Readonly<Looking['counts']> {
    return this.look.counts;
  }

  get bytes(): number {
    return this.look.bytes;
  }

  get moreComes(): boolean {
    return !this.look.isAtEnd;
  }

  /** A digest of all of it, once nothing more comes. */
  get digest(): string {
    return this.look.digest;
  }

  /** What is to be reported of it. @param entries all of it once more */
  findings(entries: () => AsyncIterable<FileEntry>): Promise<Finding[]> {
    return this.look.findings(entries);
  }

  /** Ends the listing, and removes what was written of it. */
  async end(): Promise<void> {
    await this.coming?.[Symbol.asyncIterator]().return?.();
    await rm(this.listing, { force: true });
  }

  private asTheyCome(): AsyncIterable<FileEntry> {
    return this.look.through(wantedOf(this.run, this.files, this.look));
  }
}

/** A digest of what is wanted. */
export function identityOfWanted(run: StepRun, files: FilesEnd): Promise<string> {
  return identityOfTree(wantedOf(run, files));
}

/** What of the old site's files the sheet wants, in the order of their paths. @param look is called with what is not taken */
async function* wantedOf(run: StepRun, files: FilesEnd, look?: Looking): AsyncIterable<FileEntry> {
  const { take } = run.move.sheet;
  const { frozen } = await ledgerOf(run.move);
  const out = notTaken(take.files, frozen?.file === '.maintenance' ? frozen.file : undefined);
  const limit = take.files === false ? undefined : take.files['larger-than'];
  const largest = limit === undefined ? undefined : parseSize(String(limit), 'take.files.larger-than');
  for await (const entry of files.list(out, run.signal, entry => look?.notTaken.add(entry))) {
    if (largest !== undefined && entry.size > largest) look?.tooLarge(entry);
    else if (entry.type === 'link' && !linkStaysInside(entry.path, entry.to ?? '')) look?.leadsOutside(entry);
    else if (!files.takesName(entry.path) || (!files.namesAreBytes && entry.path.includes(replaced)))
      look?.notTaken.addUnreadable(entry);
    else if ((entry.mode & ~plainMode) !== 0 && entry.type !== 'link') {
      look?.withBits(entry);
      yield { ...entry, mode: entry.mode & plainMode };
    } else yield entry;
  }
}

/** What is in a name for bytes that are not UTF-8. */
const replaced = bytesOfText('\ufffd');

/** Counts what passes of a listing, and keeps what is to be reported of it. */
class Looking {
  readonly counts = { files: 0, folders: 0, links: 0 };
  bytes = 0;
  isAtEnd = false;
  digest = '';
  private readonly identity = new TreeIdentity();
  private readonly place: string;
  private readonly names = new NameLook();
  private readonly noted: Finding[] = [];
  private readonly bits: ByteString[] = [];
  readonly notTaken = new NotTaken();
  private readonly large: FileEntry[] = [];
  private largeFiles = 0;

  constructor(place: string) {
    this.place = place;
  }

  async *through(entries: AsyncIterable<FileEntry>): AsyncIterable<FileEntry> {
    for await (const entry of entries) {
      this.counts[`${entry.type}s`]++;
      this.bytes += entry.size;
      this.identity.add(entry);
      this.names.add(entry);
      yield entry;
    }
    this.isAtEnd = true;
    this.digest = this.identity.digest();
  }

  tooLarge(entry: FileEntry): void {
    this.largeFiles++;
    this.large.push(entry);
    this.large.sort((a, b) => b.size - a.size).splice(mostLarge);
  }

  leadsOutside({ path, to }: FileEntry): void {
    this.noted.push(
      finding({
        level: 'warn',
        code: 'link-leads-outside',
        place: `${this.place}/${textOf(path)}`,
        what: `This symbolic link leads out of the site (to ${textOf(to ?? '')}) and is not taken`,
        remedy: 'If the site needs it, create it again at the new host',
      }),
    );
  }

  /** Hosts set the bit for the group on every folder, so that these are counted alone. */
  withBits({ path, type }: FileEntry): void {
    if (type === 'file') this.bits.push(path);
  }

  /** @param entries those that passed, once more */
  async findings(entries: () => AsyncIterable<FileEntry>): Promise<Finding[]> {
    const large = largeFindings(this.place, this.large, this.largeFiles);
    return [
      ...this.noted,
      ...this.notTaken.findings(this.place),
      ...bitsFindings(this.place, this.bits),
      ...large,
      ...(await this.names.findings(this.place, entries)),
    ];
  }
}

function bitsFindings(place: string, paths: readonly ByteString[]): Finding[] {
  if (paths[0] === undefined) return [];
  return [
    finding({
      level: 'note',
      code: 'mode-bits-dropped',
      place: `${place}/${textOf(paths[0])}`,
      what: `${counted(paths.length, 'file')} would run as another user, or with another group (setuid, setgid, sticky); these bits are not taken`,
      remedy: 'No site needs them; find out who set them',
    }),
  ];
}

/** So many of the files that are too large are named. */
const mostLarge = 10;

/** @param large the largest of the files that are left out since they are larger than the sheet wants them */
function largeFindings(place: string, large: readonly FileEntry[], count: number): Finding[] {
  const [first] = large;
  if (!first) return [];
  const listed = large.map(({ path, size }) => `${textOf(path)} (${sizeText(size)})`);
  const more = count > listed.length ? `, and ${count - listed.length} more` : '';
  return [
    finding({
      level: 'warn',
      code: 'files-left-out-large',
      place: `${place}/${textOf(first.path)}`,
      what: `${count} ${count === 1 ? 'file is' : 'files are'} larger than take.files.larger-than and not taken: ${listed.join(', ')}${more}`,
      remedy: 'Transfer by hand those that the site needs, or raise the limit',
    }),
  ];
}

/** What was taken of the old site's files. */
export interface TakenFiles {
  readonly part: CratePart;
  /** Files that were there from an earlier run and had not changed. */
  readonly kept: number;
  readonly way: TransferMethod | undefined;
}

/** Where files are taken from, and which. */
interface FilesSource {
  readonly files: FilesEnd;
  readonly wanted: WantedFiles;
  /** The kind of site that they are of. */
  readonly family?: Family | undefined;
}

/** Transfers what is wanted into the crate; what is there already and unchanged is kept. */
export async function takeFiles(run: StepRun, source: FilesSource, byContent: boolean): Promise<TakenFiles> {
  const { crate } = run.move;
  await crate.makeFolder();
  const begun = await PartialFiles.of(crate);
  const taking = new Taking(run, source, { begun, byContent });
  const part = await crate.writeEntries('files.ndjson', taking.entries());
  await begun.forget();
  return { part, kept: taking.kept, way: taking.way };
}

/** So many entries are taken first where listing more takes long; the next ones are listed meanwhile. */
const firstOfListing = 256;

/** Takes the files that are wanted, some after the others. */
class Taking {
  kept = 0;
  way: TransferMethod | undefined;
  private readonly run: StepRun;
  private readonly files: FilesEnd;
  private readonly wanted: WantedFiles;
  private readonly begun: PartialFiles;
  private readonly byContent: boolean;
  private readonly family: Family | undefined;
  private readonly progress: TransferProgress;
  private readonly removal: Removal;

  constructor(
    run: StepRun,
    { files, wanted, family }: FilesSource,
    { begun, byContent }: { readonly begun: PartialFiles; readonly byContent: boolean },
  ) {
    this.run = run;
    this.files = files;
    this.wanted = wanted;
    this.family = family;
    this.begun = begun;
    this.byContent = byContent;
    this.progress = new TransferProgress(run.events, () => ({
      files: wanted.counts.files,
      bytes: wanted.bytes,
      more: wanted.moreComes,
    }));
    this.removal = new Removal(run.move.crate.files);
  }

  /** What was taken, those that are files with their checksums. */
  async *entries(): AsyncIterable<CheckedEntry> {
    const { move, signal } = this.run;
    const { crate } = move;
    const lists = {
      wanted: this.wanted.entries(),
      there: listStanding(crate.files, this.removal.gone, signal),
      before: asFarAsReadable(crate.entries()),
    };
    // A command there gives all at once.
    const first = (await this.files.runsCommands()) ? undefined : firstOfListing;
    for await (const { wanted, there, before } of ahead(alongside(lists, undefined, first))) {
      const entries = [...wanted.values()];
      const stays = await this.removal.ofOthers(wanted, there);
      await this.clearStale(entries, stays);
      const sums = await this.take(entries, stays, before);
      for (const entry of entries)
        yield entry.type === 'file' ? { ...entry, sha256: sums(entry.path) } : entry;
    }
  }

  /** Removes what is not as it is wanted now: what is left is whole, or a part of just what is wanted. */
  private async clearStale(entries: readonly FileEntry[], stays: Map<ByteString, FileEntry>): Promise<void> {
    for (const entry of entries) {
      const here = stays.get(entry.path);
      if (entry.type !== 'file' || !here || isSame(here, entry) || this.begun.has(entry, here)) continue;
      await this.run.move.crate.files.remove(entry.path);
      stays.delete(entry.path);
    }
  }

  /** @returns a function that gives the checksum of a file that was taken or is there */
  private async take(
    entries: readonly FileEntry[],
    there: ReadonlyMap<ByteString, FileEntry>,
    before: ReadonlyMap<ByteString, CheckedEntry>,
  ): Promise<(path: ByteString) => string | undefined> {
    const { files, run, progress, byContent } = this;
    const to = run.move.crate.files;
    for (const { type, path, mode } of entries)
      if (type === 'folder' && !there.has(path)) await to.makeFolder(path, mode);
    for (const { type, path, to: target } of entries)
      if (type === 'link' && there.get(path)?.to !== target) await to.makeLink(path, target!);
    const wanted = entries.filter(({ type }) => type === 'file');
    // A file's time is set when it is whole, so that one of the right size and time was taken before.
    const alike = wanted.filter(entry => isSame(there.get(entry.path), entry));
    const summed = await to.checksums(
      alike.filter(entry => byContent || !isSame(before.get(entry.path), entry)).map(({ path }) => path),
      run.signal,
    );
    const sumBefore = (path: ByteString) => summed.get(path) ?? before.get(path)?.sha256;
    const kept = byContent ? await ofSameContent(run, files, alike, sumBefore) : alike;
    const isKept = new Set(kept.map(({ path }) => path));
    for (const entry of kept) progress.done(entry);
    this.kept += kept.length;
    const missing = wanted.filter(({ path }) => !isKept.has(path));
    const begun = new Map<ByteString, number>();
    for (const entry of missing) {
      const here = there.get(entry.path);
      // One of the right size may have been left before it got its time.
      if (here && here.size > 0 && !isSame(here, entry)) begun.set(entry.path, here.size);
    }
    // What is near is begun again, which costs little.
    const begins = files.far ? (entry: FileEntry) => this.begun.note(entry) : undefined;
    const passes = {
      passed: (entry: FileEntry, bytes: number) => progress.passed(entry, bytes),
      done: (entry: FileEntry) => {
        progress.done(entry);
        run.forerun?.took(entry, this.family);
      },
    };
    const job = { from: files, to, signal: run.signal, begun, begins, progress: passes, rate: run.rate };
    const { sums, way } = await transferFiles(job, missing);
    this.way ??= way;
    return path => sums.get(path) ?? sumBefore(path);
  }
}

/** A list of the crate until where somebody damaged it: what is not readable is looked at again. */
async function* asFarAsReadable(list: AsyncIterable<CheckedEntry>): AsyncIterable<CheckedEntry> {
  try {
    yield* list;
  } catch (error) {
    if (!(error instanceof DamageError)) throw error;
  }
}

/** Whether a file has the size and time of another. */
function isSame(here: FileEntry | undefined, { size, mtime }: FileEntry): boolean {
  return here?.type === 'file' && here.size === size && here.mtime === mtime;
}

/** Those files of which the old site's checksum is that of what was taken before. */
async function ofSameContent(
  run: StepRun,
  files: FilesEnd,
  entries: readonly FileEntry[],
  sumBefore: (path: ByteString) => string | undefined,
): Promise<FileEntry[]> {
  const there = await files.checksums(
    entries.map(({ path }) => path),
    run.signal,
  );
  return entries.filter(({ path }) => there.get(path) === sumBefore(path));
}
