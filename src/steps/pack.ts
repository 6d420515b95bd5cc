import { copyFile, rename, rm } from 'node:fs/promises';
import { basename } from 'node:path';
import { formatAddress } from '../core/address/address.js';
import { type ByteString, bytesOfText, textOf } from '../core/bytes.js';
import { UsageError } from '../core/errors.js';
import { type CheckedEntry, type FileEntry, linkStaysInside } from '../core/files/entries.js';
import { nameFindings } from '../core/files/names.js';
import { leftOut } from '../core/files/patterns.js';
import type { Finding } from '../core/findings.js';
import { globPattern } from '../core/rewrite/globs.js';
import { parseSize, sizeText } from '../core/sizes.js';
import { RowCount } from '../core/sql/row-count.js';
import { type CrateManifest, type CratePart, checksumOf } from '../ends/crate.js';
import { isPacked, readDump } from '../ends/database/dump-reader.js';
import { DumpWriter } from '../ends/database/dump-writer.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openFiles } from '../ends/files/place.js';
import { telling } from '../ends/trouble.js';
import { version } from '../version.js';
import { removeOthers } from './arrival.js';
import { carry, copyChecked, type Way } from './carry.js';
import { identityOf, type Move, treeIdentity } from './move.js';
import { CarryingProgress } from './progress.js';
import { doStep, type StepOutcome, type StepRun } from './run.js';
import { locate, lookAtSite, type Site, treeOf } from './site.js';
import { configurationAbove, configurationMissing, needsConfiguration } from './survey-configuration.js';

export interface PackResult {
  readonly crate: string;
  readonly counts: CrateManifest['counts'];
  /** Files that were there from an earlier run and had not changed. */
  readonly kept: number;
  /** How the files were taken. */
  readonly way: Way | undefined;
}

/** How files are taken. */
export interface PackOptions {
  /** Compare what was taken before by checksum, not by size and time alone. */
  readonly byContent: boolean;
  /** For whoever opens the crate. */
  readonly note?: string | undefined;
}

/** The name of the dump as taken, within the crate. */
export const takenDump = 'database.sql.gz';

/** Takes files and database of the old site into the crate. The old site is only read. */
export async function pack(
  run: StepRun,
  { byContent, note }: PackOptions = { byContent: false },
): Promise<StepOutcome<PackResult>> {
  const { move } = run;
  if (!move.oldFiles && !move.oldDump) {
    throw new UsageError({
      doing: 'Packing the old site',
      cause: 'the sheet names neither files nor a dump to take',
      remedy: 'Give old.files, old.database, or both',
    });
  }
  const files = move.oldFiles ? openFiles(move.oldFiles) : undefined;
  const [site, listing] = await Promise.all([
    files && lookAtSite(treeOf(files), move.oldAddress),
    listWanted(run, files),
  ]);
  return doStep(
    { ...run, again: run.again || byContent || note !== undefined },
    'pack',
    await inputsOf(move, listing.entries),
    async () => {
      const findings: Finding[] = [...listing.findings];
      if (site && needsConfiguration(site.family) && site.configuration === undefined) {
        findings.push(configurationMissing(`${move.oldFiles}/${site.family.configurations[0]}`, site.family));
        return {
          result: { crate: move.crate.folder, counts: countsOf([], []), kept: 0, way: undefined },
          findings,
          brief: {},
        };
      }
      const above = site ? await takeAbove(move, site, openFiles(move.oldFiles!)) : [];
      if (above.length > 0) findings.push(configurationAbove(move, above));
      // The dump first: if it is damaged, nothing has been copied yet.
      const dump = move.oldDump ? await takeDump(run, move.oldDump) : undefined;
      const taken = files
        ? await takeFiles(run, files, listing.entries, byContent)
        : { entries: [], kept: 0, way: undefined };
      const parts: Record<string, CratePart> = {
        'files.ndjson': await move.crate.writeEntries('files.ndjson', taken.entries),
      };
      if (above.length > 0) parts['above.ndjson'] = await move.crate.writeEntries('above.ndjson', above);
      else await rm(move.crate.at('above.ndjson'), { force: true });
      if (dump) parts[takenDump] = dump.part;
      const counts = countsOf(taken.entries, dump?.tables ?? []);
      await move.crate.writeManifest({
        format: 'able-porter crate',
        version: 1,
        taken: new Date().toISOString(),
        by: `able-porter ${version}`,
        ...(note === undefined ? {} : { note }),
        from: originOf(move, site),
        counts,
        parts,
        tables: dump?.tables ?? [],
      });
      const { sha256 } = await checksumOf(move.crate.at('crate.json'));
      const result = { crate: move.crate.folder, counts, kept: taken.kept, way: taken.way };
      return { result, findings, brief: { ...counts, crate: sha256 } };
    },
  );
}

/** What packing depends on. */
export async function packInputs(run: StepRun): Promise<unknown> {
  const { oldFiles } = run.move;
  const { entries } = await listWanted(run, oldFiles ? openFiles(oldFiles) : undefined);
  return inputsOf(run.move, entries);
}

async function inputsOf(move: Move, entries: readonly FileEntry[]): Promise<unknown> {
  const { oldFiles, oldDump, sheet } = move;
  return { files: oldFiles, take: sheet.take, tree: treeIdentity(entries), dump: await identityOf(oldDump) };
}

function originOf(move: Move, site: Site | undefined): CrateManifest['from'] {
  const text = (value: ByteString | undefined) => (value === undefined ? undefined : textOf(value));
  return {
    address: formatAddress(move.oldAddress),
    family: site?.family.name ?? 'plain',
    prefix: text(site?.facts?.prefix?.value),
    charset: text(site?.facts?.charset?.value),
    configuration: site?.configuration,
  };
}

function countsOf(
  entries: readonly CheckedEntry[],
  tables: CrateManifest['tables'],
): CrateManifest['counts'] {
  const of = (type: FileEntry['type']) => entries.filter(entry => entry.type === type).length;
  return {
    files: of('file'),
    folders: of('folder'),
    links: of('link'),
    bytes: entries.reduce((sum, entry) => sum + entry.size, 0),
    tables: tables.length,
    rows: tables.reduce((sum, { rows }) => sum + rows, 0),
  };
}

async function listWanted(
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

/** Takes those files of the configuration that lie one folder above the site. */
async function takeAbove(move: Move, site: Site, files: FilesEnd): Promise<CheckedEntry[]> {
  const tree = treeOf(files);
  const taken: CheckedEntry[] = [];
  for (const [path, source] of site.files.sources) {
    if (!path.startsWith('../') || source === undefined) continue;
    const { end, path: name } = locate(tree, path);
    const entry = await end.entry(name);
    if (entry?.type !== 'file') continue;
    taken.push({ ...entry, sha256: await copyChecked(end, move.crate.above, entry) });
  }
  return taken;
}

/** What stands in a name for bytes that are not UTF-8. */
const replaced = bytesOfText('\ufffd');

async function takeDump(
  run: StepRun,
  file: string,
): Promise<{ part: CratePart; tables: { table: string; rows: number }[] }> {
  const { crate, sheet } = run.move;
  const without = sheet.take.database === false ? [] : sheet.take.database.tables.without.map(globPattern);
  const { size } = (await identityOf(file)) as { size: number };
  const progress = (done: number) =>
    run.events({ type: 'progress', what: basename(file), done, of: size, unit: 'bytes' });
  const asItIs = without.length === 0 && (await isPacked(file));
  await telling(`Making the crate ${crate.folder}`, () => crate.makeFolder());
  const writer = asItIs ? undefined : new DumpWriter(crate.at(takenDump), { checksum: true });
  const count = new RowCount(
    table => !without.some(one => one.test(table)),
    writer && (chunk => writer.take(chunk)),
  );
  try {
    await readDump(file, count, { signal: run.signal, progress, after: writer && (() => writer.settle()) });
    if (writer) await writer.finish();
    else await copyWhole(file, crate.at(takenDump));
  } catch (error) {
    await writer?.discard();
    throw error;
  }
  return { part: await checksumOf(crate.at(takenDump)), tables: [...count.tables.values()] };
}

async function copyWhole(from: string, to: string): Promise<void> {
  await telling(`Writing ${to}`, async () => {
    await copyFile(from, `${to}.partial`);
    await rename(`${to}.partial`, to);
  });
}

/** The files that a pack set out to take: what lies there in part is gone on with, as long as it is still the same. */
const setOut = 'taking.ndjson';

async function takeFiles(
  run: StepRun,
  files: FilesEnd,
  entries: readonly FileEntry[],
  byContent: boolean,
): Promise<{ entries: CheckedEntry[]; kept: number; way: Way | undefined }> {
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
  const taken = entries
    .map(entry =>
      entry.type === 'file' ? { ...entry, sha256: sums.get(entry.path) ?? sumBefore(entry.path) } : entry,
    )
    .sort((a, b) => (a.path < b.path ? -1 : 1));
  return { entries: taken, kept: kept.length, way };
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
