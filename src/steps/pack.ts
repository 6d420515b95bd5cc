import { copyFile, rename, rm } from 'node:fs/promises';
import { basename } from 'node:path';
import { formatAddress } from '../core/address/address.js';
import { type ByteString, textOf } from '../core/bytes.js';
import { UsageError } from '../core/errors.js';
import type { CheckedEntry } from '../core/files/entries.js';
import type { Finding } from '../core/findings.js';
import { stateOf } from '../core/journal.js';
import { globPattern } from '../core/rewrite/terms/globs.js';
import { RowCount } from '../core/sql/row-count.js';
import { isPacked, readDump } from '../ends/database/dump/reader.js';
import { DumpWriter } from '../ends/database/dump/writer.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { openFiles } from '../ends/files/place.js';
import { keepMemoryLow } from '../ends/memory.js';
import { type CrateManifest, takenDump } from '../ends/move-folder/crate.js';
import { type CratePart, checksumOf } from '../ends/move-folder/crate-part.js';
import { telling } from '../ends/trouble.js';
import { version } from '../version.js';
import { oldDatabaseOf } from './move/databases.js';
import { identityOf, type Move } from './move/open.js';
import { locate, lookAtSite, type Site, treeOf } from './move/read-site.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { type TakenDatabase, takeLiveDatabase } from './pack/database.js';
import { identityOfWanted, takeFiles, WantedFiles } from './pack/files.js';
import { configurationAbove, configurationMissing, needsConfiguration } from './survey/configuration.js';
import { copyChecked, type Way } from './transfer/transfer.js';

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
  /** Take a live database as it is now, though it was taken before. */
  readonly latest?: boolean;
  /** For whoever opens the crate. */
  readonly note?: string | undefined;
}

/** Takes files and database of the old site into the crate. The old site is only read. */
export async function pack(
  run: StepRun,
  { byContent, note, latest }: PackOptions = { byContent: false },
): Promise<StepOutcome<PackResult>> {
  const { move } = run;
  if (!move.oldFiles && !move.oldDump && !move.oldLive) {
    throw new UsageError({
      doing: 'Packing the old site',
      cause: 'the sheet names neither files nor a dump to take',
      remedy: 'Give old.files, old.database, or both',
    });
  }
  keepMemoryLow();
  const files = move.oldFiles ? openFiles(move.oldFiles) : undefined;
  const again = run.again || byContent || note !== undefined || (latest && move.oldLive);
  const wanted = files && new WantedFiles(run, files);
  // Whether all of it was taken already can be told when all of it is known.
  const mayBeDone = !again && stateOf(await move.folder.readJournal(), 'pack').state === 'done';
  const listing = mayBeDone ? wanted?.list() : wanted?.begin();
  // What it asks for may be told by the listing.
  const looking = files && lookAtSite(treeOf(files), move.oldAddress);
  const endStreams = mayBeDone ? undefined : files?.beginStreams?.(run.pace.streams);
  try {
    const [site] = await Promise.all([looking, listing]);
    const inputs = async () => inputsOf(move, wanted?.digest);
    return await doStep({ ...run, again }, 'pack', await inputs(), async () => {
      const findings: Finding[] = [];
      if (site && needsConfiguration(site.family) && site.configuration === undefined) {
        findings.push(configurationMissing(`${move.oldFiles}/${site.family.configurations[0]}`, site.family));
        return {
          result: { crate: move.crate.folder, counts: countsOf(undefined, []), kept: 0, way: undefined },
          findings,
          brief: {},
        };
      }
      const above = site ? await takeAbove(move, site, openFiles(move.oldFiles!)) : [];
      if (above.length > 0) findings.push(configurationAbove(move, above));
      // The dump first: if it is damaged, nothing has been copied yet.
      const dump = await takeDatabase(run, site);
      findings.push(...(dump?.findings ?? []));
      const taken =
        files && wanted
          ? await takeFiles(run, files, wanted, byContent)
          : { part: await move.crate.writeEntries('files.ndjson', []), kept: 0, way: undefined };
      const parts: Record<string, CratePart> = { 'files.ndjson': taken.part };
      if (above.length > 0) parts['above.ndjson'] = await move.crate.writeEntries('above.ndjson', above);
      else await rm(move.crate.at('above.ndjson'), { force: true });
      if (dump) parts[takenDump] = dump.part;
      findings.push(...((await wanted?.findings(() => move.crate.entries())) ?? []));
      const counts = countsOf(wanted, dump?.tables ?? []);
      await move.crate.writeManifest({
        format: 'able-porter crate',
        version: 1,
        taken: new Date().toISOString(),
        by: `able-porter ${version}`,
        ...(note === undefined ? {} : { note }),
        from: { ...originOf(move, site), ...(dump?.charset === undefined ? {} : { spoken: dump.charset }) },
        counts,
        parts,
        tables: dump?.tables ?? [],
      });
      const { sha256 } = await checksumOf(move.crate.at('crate.json'));
      const result = { crate: move.crate.folder, counts, kept: taken.kept, way: taken.way };
      return { result, findings, brief: { ...counts, crate: sha256 }, inputs: await inputs() };
    });
  } finally {
    endStreams?.();
    await listing?.catch(() => {});
    await wanted?.end();
  }
}

/** What packing depends on. */
export async function packInputs(run: StepRun): Promise<unknown> {
  const { oldFiles } = run.move;
  return inputsOf(run.move, oldFiles && (await identityOfWanted(run, openFiles(oldFiles))));
}

async function inputsOf(move: Move, tree: string | undefined): Promise<unknown> {
  const { oldFiles, oldDump, sheet } = move;
  return {
    files: oldFiles,
    take: sheet.take,
    tree,
    dump: await identityOf(oldDump),
    database: liveIdentity(move),
  };
}

/** Which live database is taken. What stands in it goes on changing; it is taken anew when that is asked for. */
function liveIdentity({ oldLive, sheet }: Move): unknown {
  const { from, server, through } = sheet.old.database ?? {};
  return oldLive ? { from, server, through } : undefined;
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

function countsOf(wanted: WantedFiles | undefined, tables: CrateManifest['tables']): CrateManifest['counts'] {
  return {
    ...(wanted?.counts ?? { files: 0, folders: 0, links: 0 }),
    bytes: wanted?.bytes ?? 0,
    tables: tables.length,
    rows: tables.reduce((sum, { rows }) => sum + rows, 0),
  };
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
  return taken.sort((a, b) => (a.path < b.path ? -1 : 1));
}

/** What is taken of the database, by whatever way the sheet names. */
async function takeDatabase(
  run: StepRun,
  site: Site | undefined,
): Promise<(Omit<TakenDatabase, 'charset'> & { charset?: string }) | undefined> {
  const { move } = run;
  if (move.oldDump) return takeDump(run, move.oldDump);
  return move.oldLive ? takeLiveDatabase(run, await oldDatabaseOf(move, site)) : undefined;
}

async function takeDump(run: StepRun, file: string): Promise<Omit<TakenDatabase, 'charset'>> {
  const { crate, sheet } = run.move;
  const without = sheet.take.database === false ? [] : sheet.take.database.tables.without.map(globPattern);
  const { size } = (await identityOf(file)) as { size: number };
  const progress = (done: number) =>
    run.events({ type: 'progress', what: basename(file), done, of: size, unit: 'bytes' });
  const asItIs = without.length === 0 && (await isPacked(file));
  await crate.makeFolder();
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
  return { part: await checksumOf(crate.at(takenDump)), tables: [...count.tables.values()], findings: [] };
}

async function copyWhole(from: string, to: string): Promise<void> {
  await telling(`Writing ${to}`, async () => {
    await copyFile(from, `${to}.partial`);
    await rename(`${to}.partial`, to);
  });
}
