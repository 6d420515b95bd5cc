import { rm } from 'node:fs/promises';
import { type ByteString, bytesOfText, textOf } from '../core/bytes.js';
import { type CheckedEntry, type FileEntry, linkStaysInside } from '../core/files/entries.js';
import { nameFindings } from '../core/files/names.js';
import { leftOut } from '../core/files/patterns.js';
import type { Finding } from '../core/findings.js';
import { parseSize, sizeText } from '../core/sizes.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { removeOthers } from './arrival.js';
import { carry, type Way } from './carry.js';
import { CarryingProgress } from './progress.js';
import type { StepRun } from './run.js';

/** Lists what of the old site's files the sheet wants, with findings on what is not taken or may not arrive. */
export async function listWanted(
  run: StepRun,
  files: FilesEnd | undefined,
): Promise<{ entries: FileEntry[]; findings: Finding[] }> {
  if (!files) return { entries: [], findings: [] };
  const { take } = run.move.sheet;
  const out = leftOut(take.files === false ? ['*'] : take.files.without);
  const entries: FileEntry[] = [];
  const findings: Finding[] = [];
  const limit = take.files === false ? undefined : take.files['larger-than'];
  const largest = limit === undefined ? undefined : parseSize(String(limit), 'take.files.larger-than');
  const large: FileEntry[] = [];
  for await (const entry of files.list(out, run.signal)) {
    if (largest !== undefined && entry.size > largest) {
      large.push(entry);
      continue;
    }
    if (entry.type === 'link' && !linkStaysInside(entry.path, entry.to ?? '')) {
      findings.push({
        level: 'warn',
        code: 'link-leads-outside',
        place: `${files.place}/${textOf(entry.path)}`,
        what: `This symbolic link leads out of the site (to ${textOf(entry.to ?? '')}) and is not taken`,
        remedy: 'If the site needs it, make it anew at the new host',
      });
      continue;
    }
    if (!files.takesName(entry.path) || (!files.namesAreBytes && entry.path.includes(replaced))) {
      findings.push({
        level: 'warn',
        code: 'name-not-readable',
        place: `${files.place}/${textOf(entry.path)}`,
        what: 'Its name is not UTF-8 and cannot be told over SFTP, so it is not taken',
        remedy: 'Rename it at the old host, or take it in an archive',
      });
      continue;
    }
    entries.push(entry);
  }
  findings.push(...largeFindings(files.place, large), ...nameFindings(files.place, entries));
  return { entries, findings };
}

/** What is told of files that are left out since they are larger than the sheet wants them. */
function largeFindings(place: string, large: FileEntry[]): Finding[] {
  const [first] = large.sort((a, b) => b.size - a.size);
  if (!first) return [];
  const listed = large.slice(0, 10).map(({ path, size }) => `${textOf(path)} (${sizeText(size)})`);
  const more = large.length > listed.length ? `, and ${large.length - listed.length} more` : '';
  return [
    {
      level: 'warn',
      code: 'files-left-out-large',
      place: `${place}/${textOf(first.path)}`,
      what: `${large.length} ${large.length === 1 ? 'file is' : 'files are'} larger than take.files.larger-than and not taken: ${listed.join(', ')}${more}`,
      remedy: 'Carry by hand what the site needs of them, or raise the limit',
    },
  ];
}

/** What stands in a name for bytes that are not UTF-8. */
const replaced = bytesOfText('\ufffd');

/** The files that a pack set out to take: what lies there in part is gone on with, as long as it is still the same. */
const setOut = 'taking.ndjson';

/** Carries files into the crate; what is there already and unchanged is kept. */
export async function takeFiles(
  run: StepRun,
  files: FilesEnd,
  entries: readonly FileEntry[],
  byContent: boolean,
): Promise<{ entries: Iterable<CheckedEntry>; kept: number; way: Way | undefined }> {
  const { crate } = run.move;
  const before = new Map((await crate.entries()).map(entry => [entry.path, entry]));
  const progress = new CarryingProgress(run.events, entries);
  const there = await removeOthers(crate.files, entries, run.signal);
  for (const { type, path, mode } of entries)
    if (type === 'folder' && !there.has(path)) await crate.files.makeFolder(path, mode);
  for (const { type, path, to } of entries)
    if (type === 'link' && there.get(path)?.to !== to) await crate.files.makeLink(path, to!);
  const wanted = entries.filter(({ type }) => type === 'file');
  // A file's time is set when it is whole, so that one of the right size and time was taken before.
  const alike = wanted.filter(entry => isSame(there.get(entry.path), entry));
  const summed = await crate.files.checksums(
    alike.filter(entry => byContent || !isSame(before.get(entry.path), entry)).map(({ path }) => path),
    run.signal,
  );
  const sumBefore = (path: ByteString) => summed.get(path) ?? before.get(path)?.sha256;
  const kept = byContent ? await ofSameContent(run, files, alike, sumBefore) : alike;
  const isKept = new Set(kept.map(({ path }) => path));
  for (const entry of kept) progress.done(entry);
  const missing = wanted.filter(({ path }) => !isKept.has(path));
  const begun = files.far ? begunOf(missing, await crate.entries(setOut), there) : new Map();
  if (missing.length > 0) await crate.writeEntries(setOut, missing);
  const cargo = { from: files, to: crate.files, signal: run.signal, begun, progress, pace: run.pace };
  const { sums, way } = await carry(cargo, missing);
  await rm(crate.at(setOut), { force: true });
  const sumOf = (path: ByteString) => sums.get(path) ?? sumBefore(path);
  return { entries: checked(entries, sumOf), kept: kept.length, way };
}

/** Entries in the order of their paths, those of files with their checksums; made one by one, for they are many. */
function* checked(
  entries: readonly FileEntry[],
  sumOf: (path: ByteString) => string | undefined,
): Iterable<CheckedEntry> {
  for (const entry of [...entries].sort((a, b) => (a.path < b.path ? -1 : 1)))
    yield entry.type === 'file' ? { ...entry, sha256: sumOf(entry.path) } : entry;
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

/** How much is there of files that an earlier run had begun to take, and that have not changed since. */
function begunOf(
  missing: readonly FileEntry[],
  earlier: readonly FileEntry[],
  there: ReadonlyMap<ByteString, FileEntry>,
): Map<ByteString, number> {
  const setOutWith = new Map(earlier.map(entry => [entry.path, entry]));
  const begun = new Map<ByteString, number>();
  for (const entry of missing) {
    const here = there.get(entry.path);
    if (
      here?.type === 'file' &&
      isSame(setOutWith.get(entry.path), entry) &&
      here.size < entry.size &&
      here.size > 0
    )
      begun.set(entry.path, here.size);
  }
  return begun;
}
