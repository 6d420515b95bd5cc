import { asBytes, type ByteString, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import type { CheckedEntry, FileEntry } from '../../core/files/entries.js';
import type { FilesEnd } from '../../ends/files/files-end.js';
import { copy, type TransferJob, worthResuming } from './transfer.js';

/** A sample is at least so many files, and one in so many. */
const sampleFewest = 50;
const sampleOneIn = 20;

/** What of some wanted files is at an end already. */
export interface Arrived {
  /** Files that are whole. */
  readonly whole: ReadonlySet<ByteString>;
  /** Those of them whose checksum was seen to be right. */
  readonly verified: ReadonlySet<ByteString>;
  /** How many bytes are there of files that are not whole. */
  readonly begun: ReadonlyMap<ByteString, number>;
}

/**
 * Reports which of some files are at an end already.
 * @param how `time`: of the right size and time, or of the right checksum where the time is another and a checksum costs
 * no transfer; `content`: of the right checksum, whatever it costs; `resume`: of the right checksum where it costs no
 * transfer, otherwise of the right size and time, which a file gets when it is whole
 * @param before what an earlier delivery brought there
 */
export async function alreadyThere(
  end: FilesEnd,
  wanted: readonly CheckedEntry[],
  there: ReadonlyMap<ByteString, FileEntry>,
  signal: AbortSignal,
  how: 'time' | 'content' | 'resume',
  before: ReadonlyMap<ByteString, CheckedEntry> = new Map(),
): Promise<Arrived> {
  const cheap = !end.far || (await end.runsCommands());
  const ofSize = wanted.filter(({ path, size }) => {
    const here = there.get(path);
    return here?.type === 'file' && here.size === size;
  });
  const ofTime = new Set(
    ofSize
      .filter(({ path, mtime, sha256 }) => {
        const here = there.get(path)!;
        const last = before.get(path);
        // Taken again by its content, it is another file with the same size and time.
        if (last?.sha256 !== undefined && last.sha256 !== sha256) return false;
        // Of a server that sets no times it is remembered which it gave when the file arrived.
        const isRemembered =
          last?.seen !== undefined && last.sha256 === sha256 && sameTime(end, here.mtime, last.seen);
        return isRemembered || sameTime(end, here.mtime, mtime);
      })
      .map(({ path }) => path),
  );
  const begun = new Map<ByteString, number>();
  for (const { path, size } of wanted) {
    const here = there.get(path);
    // Near, it may be a part of an earlier version, and to begin again costs little; from afar all is compared at the end.
    if (!end.far || here?.type !== 'file' || size < worthResuming || here.size === 0) continue;
    // One of the right size may have been left before it got its time; where its checksum is asked for, that shows.
    if (here.size < size || (here.size === size && !cheap && !ofTime.has(path))) begun.set(path, here.size);
  }
  const compared = ofSize.filter(({ path }) => {
    if (how === 'content') return true;
    return cheap && (how === 'resume' || !ofTime.has(path));
  });
  const sums = await end.checksums(
    compared.map(({ path }) => path),
    signal,
  );
  const isRight = ({ path, sha256 }: CheckedEntry) => sums.get(path) === sha256;
  const right = compared.filter(isRight);
  // What was left before it got its mode and time is resumed at its end, which gives it them, or near by written again.
  // Near by the time comes last, and a folder for its owner alone has modes of its own.
  const isSet = ({ path, mode }: CheckedEntry) =>
    ofTime.has(path) && (!end.far || there.get(path)!.mode === mode);
  const verified = new Set<ByteString>();
  for (const entry of right) {
    if (how !== 'resume' || isSet(entry)) verified.add(entry.path);
    else if (end.far && entry.size > 0) begun.set(entry.path, entry.size);
  }
  const unseen = how === 'content' || (how === 'resume' && cheap) ? [] : [...ofTime];
  return { whole: new Set([...verified, ...unseen]), verified, begun };
}

/** Times are kept to the second over a network. */
export function sameTime(end: FilesEnd, a: number, b: number): boolean {
  return Math.abs(a - b) < (end.far ? 1000 : 1);
}

/**
 * Compares what is at the far side with what was to arrive: by checksum, or where only a sample is read back, by size
 * and some by checksum. What differs is carried once more.
 * @param surely files that are compared even where only a sample is read back
 * @returns how many files were compared
 * @throws DamageError where a file does not arrive as it was read
 */
export async function verifyArrived(
  job: Pick<TransferJob, 'to' | 'progress' | 'rate' | 'signal'> & {
    readonly from: (entry: FileEntry) => FilesEnd;
  },
  entries: readonly CheckedEntry[],
  sample: boolean,
  surely: { has(path: ByteString): boolean },
): Promise<number> {
  const { to, signal } = job;
  const some = sample && !(await to.runsCommands()) ? sampleOf(entries, surely) : entries;
  const differing = async (among: readonly CheckedEntry[]) => {
    const there = await to.checksums(
      among.map(({ path }) => path),
      signal,
    );
    return among.filter(({ path, sha256 }) => there.get(path) !== sha256);
  };
  const wrong = await differing(some);
  if (some.length < entries.length) {
    // Of those that are not read back, at least the size must be right.
    const sizes = new Map<ByteString, number>();
    for await (const { path, size } of to.list(outsideOf(entries), signal)) sizes.set(path, size);
    const seen = new Set(wrong);
    wrong.push(...entries.filter(entry => !seen.has(entry) && sizes.get(entry.path) !== entry.size));
  }
  for (const entry of wrong) await copy({ ...job, from: job.from(entry) }, entry, 0);
  const [still] = wrong.length > 0 ? await differing(wrong) : [];
  if (!still) return some.length;
  throw new DamageError({
    doing: `Writing ${to.place}/${textOf(still.path)}`,
    cause: 'its content is not what was sent',
    remedy: 'Check the far side’s disk, then run the command again',
  });
}

/** What is in no folder in which some entries are; these are in the order of their paths. */
function outsideOf(entries: readonly FileEntry[]): (entry: FileEntry) => boolean {
  const [first, last] = [entries[0]!.path, entries.at(-1)!.path];
  // All paths of what is in a folder lie between its own with a "/" and with the character after that.
  return ({ path, type }) => type === 'folder' && (`${path}/` > last || `${path}0` < first);
}

/** Some files spread over all of them, with those that must be among them. */
function sampleOf<E extends FileEntry>(
  entries: readonly E[],
  surely: { has(path: ByteString): boolean },
): E[] {
  const number = Math.max(sampleFewest, Math.ceil(entries.length / sampleOneIn));
  const step = Math.max(1, entries.length / number);
  const picked = new Set(Array.from({ length: number }, (_, i) => Math.floor(i * step)));
  return entries.filter((entry, i) => picked.has(i) || surely.has(entry.path));
}

/** Lists what is at an end that may not be there yet. @param gone folders that are not entered any more */
export async function* listStanding(
  files: FilesEnd,
  gone: ReadonlySet<ByteString>,
  signal: AbortSignal,
): AsyncIterable<FileEntry> {
  if (await files.isThere()) yield* files.list(({ path }) => gone.has(path), signal);
}

/** Removes what an earlier run put at an end and is not wanted any more, or is wanted as something else. */
export class Removal {
  /** Folders that were removed. */
  readonly gone = new Set<ByteString>();
  private readonly files: FilesEnd;

  constructor(files: FilesEnd) {
    this.files = files;
  }

  /** @returns what is left of what is there */
  async ofOthers(
    wanted: ReadonlyMap<ByteString, FileEntry>,
    there: ReadonlyMap<ByteString, FileEntry>,
  ): Promise<Map<ByteString, FileEntry>> {
    const left = new Map<ByteString, FileEntry>();
    for (const [path, entry] of there) {
      if (wanted.get(path)?.type === entry.type) left.set(path, entry);
      else if (!this.isGone(path)) {
        await this.files.remove(path);
        if (entry.type === 'folder') this.gone.add(path);
      }
    }
    return left;
  }

  private isGone(path: ByteString): boolean {
    if (this.gone.size === 0) return false;
    for (let at = path.indexOf('/'); at > 0; at = path.indexOf('/', at + 1))
      if (this.gone.has(asBytes(path.slice(0, at)))) return true;
    return false;
  }
}
