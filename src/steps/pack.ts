import { chmod, copyFile, rename, rm } from 'node:fs/promises';
import { basename } from 'node:path';
import { formatAddress } from '../core/address/address.js';
import { type ByteString, textOf } from '../core/bytes.js';
import { UsageError } from '../core/errors.js';
import type { CheckedEntry } from '../core/files/entries.js';
import { saysStop } from '../core/findings/findings.js';
import type { SiteInDatabase } from '../core/site/survey/site-tables.js';
import { RowCount, type TableRows, type TakenOfTable } from '../core/sql/row-count.js';
import type { RefusedStatement } from '../core/sql/scanner.js';
import { isPacked, readDump } from '../ends/database/dump/reader.js';
import { DumpWriter } from '../ends/database/dump/writer.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import type { FilesPlace } from '../ends/files/place.js';
import { type CrateManifest, takenDump } from '../ends/move-folder/crate.js';
import { type CratePart, checksumOf } from '../ends/move-folder/crate-part.js';
import { whileDoing } from '../ends/system-errors.js';
import { version } from '../version.js';
import { oldDatabaseOf } from './move/databases.js';
import { identityOf } from './move/identity.js';
import { withLanding } from './move/landing.js';
import { ledgerOf } from './move/ledger.js';
import { leftOutFindings } from './move/left-out.js';
import type { Move } from './move/open.js';
import { locate, lookAtOldSite, type Site, treeOf } from './move/read-site.js';
import { doStep, type FindingLog, type StepOutcome, type StepRun } from './move/step.js';
import { othersFinding, siteInDatabase, siteTablesFindings, tablesTaken } from './move/tables.js';
import { sideBySide } from './overlap/side-by-side.js';
import { type TakenDatabase, takeLiveDatabase } from './pack/database.js';
import { identityOfWanted, takeFiles, WantedFiles } from './pack/files.js';
import { configurationAbove, configurationMissing, needsConfiguration } from './survey/configuration.js';
import { frontFindings } from './survey/front.js';
import { copyChecked, type TransferMethod } from './transfer/transfer.js';

export interface PackResult {
  readonly crate: string;
  readonly counts: CrateManifest['counts'];
  /** Files that were there from an earlier run and had not changed. */
  readonly kept: number;
  /** How the files were taken. */
  readonly way: TransferMethod | undefined;
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
  options: PackOptions = { byContent: false },
): Promise<StepOutcome<PackResult>> {
  const { move } = run;
  const { byContent, note, latest } = options;
  refuseNothing(move);
  const files = move.oldFiles?.open();
  const again = run.again || byContent || note !== undefined || (latest && move.oldLive);
  const wanted = files && new WantedFiles(run, files);
  // Whether all of it was taken already is only known once all of it is listed.
  const mayBeDone = !again && (await ledgerOf(move)).stateOf('pack').state === 'done';
  const listing = mayBeDone ? wanted?.list() : wanted?.begin();
  // The listing may know what this asks for.
  const looking = lookAtOldSite(move, files);
  const endStreams = mayBeDone ? undefined : files?.beginStreams?.(run.rate.streams);
  try {
    const [site] = await withLanding(move.oldPlace, () => Promise.all([looking, listing]));
    const inputs = async () => inputsOf(move, wanted?.digest);
    return await doStep({ ...run, again }, 'pack', await inputs(), async findings => {
      if (site && needsConfiguration(site.family) && site.configuration === undefined) {
        findings.add(configurationMissing(`${move.oldPlace}/${site.family.configurations[0]}`, site.family));
        return { result: nothingTaken(move), brief: {} };
      }
      if (site && files) findings.add(...frontFindings(move, site));
      if (findings.stops) return { result: nothingTaken(move), brief: {} };
      const source = files && wanted ? { files, wanted } : undefined;
      const taken = await take(run, { site, source, byContent }, findings);
      if (!taken) return { result: nothingTaken(move), brief: {} };
      const manifest = manifestOf(move, site, note, taken);
      await move.crate.writeManifest(manifest);
      const { sha256 } = await checksumOf(move.crate.at('crate.json'));
      const { counts } = manifest;
      const result = { crate: move.crate.folder, counts, kept: taken.kept, way: taken.way };
      return { result, brief: { ...counts, crate: sha256 }, inputs: await inputs() };
    });
  } finally {
    endStreams?.();
    await listing?.catch(() => {});
    await wanted?.end();
  }
}

function refuseNothing({ oldFiles, oldDump, oldLive }: Move): void {
  if (oldFiles || oldDump || oldLive) return;
  throw new UsageError({
    doing: 'Packing the old site',
    cause: 'the sheet names neither files nor a dump to take',
    remedy: 'Give old.files, old.database, or both',
  });
}

function nothingTaken({ crate }: Move): PackResult {
  return { crate: crate.folder, counts: countsOf(undefined, []), kept: 0, way: undefined };
}

/** What was taken into the crate. */
interface Taken {
  readonly counts: CrateManifest['counts'];
  readonly parts: Readonly<Record<string, CratePart>>;
  readonly tables: CrateManifest['tables'];
  /** The character set in which the dump is written, where it was taken from a server. */
  readonly spoken: string | undefined;
  readonly kept: number;
  readonly way: TransferMethod | undefined;
}

/** What is taken, and how. */
interface Source {
  readonly site: Site | undefined;
  readonly source: { readonly files: FilesEnd; readonly wanted: WantedFiles } | undefined;
  readonly byContent: boolean;
}

async function take(
  run: StepRun,
  { site, source, byContent }: Source,
  findings: FindingLog,
): Promise<Taken | undefined> {
  const { crate, oldFiles } = run.move;
  const above = site && oldFiles ? await takeAbove(run.move, site, oldFiles) : [];
  const configured = above.filter(({ path }) => site?.files.sources.has(`../${path}`));
  if (configured.length > 0) findings.add(configurationAbove(run.move, configured));
  // A dump that is there first: if it is damaged, nothing has been copied yet.
  const there = run.move.oldDump === undefined ? undefined : await takeDatabase(run, site);
  if (saysStop(there?.findings ?? [])) {
    findings.add(...there!.findings);
    return undefined;
  }
  const { database: dump, files } = await sideBySide(run, {
    database: async (run: StepRun) => there ?? takeDatabase(run, site),
    files: async (run: StepRun) =>
      source
        ? takeFiles(run, { ...source, family: site?.family }, byContent)
        : { part: await crate.writeEntries('files.ndjson', []), kept: 0, way: undefined },
  });
  findings.add(...(dump?.findings ?? []));
  if (findings.stops) return undefined;
  const parts: Record<string, CratePart> = { 'files.ndjson': files.part };
  if (above.length > 0) parts['above.ndjson'] = await crate.writeEntries('above.ndjson', above);
  else await rm(crate.at('above.ndjson'), { force: true });
  if (dump?.part) parts[takenDump] = dump.part;
  findings.add(...((await source?.wanted.findings(() => crate.entries())) ?? []));
  const tables = dump?.tables ?? [];
  const counts = countsOf(source?.wanted, tables);
  return { counts, parts, tables, spoken: dump?.charset, kept: files.kept, way: files.way };
}

function manifestOf(
  move: Move,
  site: Site | undefined,
  note: string | undefined,
  { counts, parts, tables, spoken }: Taken,
): CrateManifest {
  return {
    format: 'able-porter crate',
    version: 1,
    taken: new Date().toISOString(),
    by: `able-porter ${version}`,
    ...(note === undefined ? {} : { note }),
    from: { ...originOf(move, site), ...(spoken === undefined ? {} : { spoken }) },
    counts,
    parts,
    tables,
  };
}

/** What packing depends on. */
export async function packInputs(run: StepRun): Promise<unknown> {
  const { oldFiles } = run.move;
  return inputsOf(run.move, oldFiles && (await identityOfWanted(run, oldFiles.open())));
}

async function inputsOf(move: Move, tree: string | undefined): Promise<unknown> {
  const { oldFiles, oldDump, sheet } = move;
  return {
    files: oldFiles?.text,
    take: sheet.take,
    tree,
    dump: await identityOf(oldDump),
    database: liveIdentity(move),
  };
}

/** Which live database is taken. What is in it continues changing; it is taken again when that is asked for. */
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

/** Takes what lies one folder above the site: of its configuration, and files by which visitors come in. */
async function takeAbove(move: Move, site: Site, place: FilesPlace): Promise<CheckedEntry[]> {
  const tree = treeOf(place);
  const taken: CheckedEntry[] = [];
  const configured = [...site.files.sources].flatMap(([path, source]) =>
    path.startsWith('../') && source !== undefined ? [path] : [],
  );
  const front = site.front?.is === 'above' ? site.front.files.map(name => `../${name}`) : [];
  for (const path of new Set([...configured, ...front])) {
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
  const whose = siteInDatabase(site);
  if (move.oldDump) return takeDump(run, move.oldDump, whose);
  return move.oldLive ? takeLiveDatabase(run, await oldDatabaseOf(move, site), whose) : undefined;
}

/** Takes a dump as it is, but for what is not of the site's tables. */
async function takeDump(
  run: StepRun,
  file: string,
  site: SiteInDatabase | undefined,
): Promise<Omit<TakenDatabase, 'charset'>> {
  const { move } = run;
  await move.crate.makeFolder();
  const whole = await copyDump(run, file, (await isPacked(file)) ? undefined : () => 'all');
  const names = whole.tables.map(({ table }) => textOf(table));
  const stops = siteTablesFindings(move, site, names, file);
  if (stops.length > 0) return { part: undefined, tables: [], findings: stops };
  const taken = tablesTaken(move, site, names);
  const others = names.filter(name => taken(name) === 'nothing');
  const isAll = names.every(name => taken(name) === 'all');
  const { tables, leftOut } = isAll ? whole : await copyDump(run, file, table => taken(textOf(table)));
  const findings = [
    ...othersFinding(site, { all: names, others, place: file }),
    ...(await leftOutFindings(file, leftOut)),
  ];
  return { part: await checksumOf(move.crate.at(takenDump)), tables, findings };
}

/**
 * Copies a dump into the crate.
 * @param taken what is copied of each table; left out for a file that is copied as it is
 */
async function copyDump(
  run: StepRun,
  file: string,
  taken?: (table: string) => TakenOfTable,
): Promise<{ tables: readonly TableRows[]; leftOut: readonly RefusedStatement[] }> {
  const { crate, bench } = run.move;
  const { size } = (await identityOf(file)) as { size: number };
  const progress = (done: number) =>
    run.events({ type: 'progress', what: basename(file), done, of: size, unit: 'bytes' });
  const writer = taken && new DumpWriter(bench, crate.at(takenDump), { checksum: true });
  const count = new RowCount(bench, taken ?? (() => 'all'), writer && (chunk => writer.take(chunk)));
  try {
    const after = writer && (() => writer.settle());
    await readDump(bench, file, count, { signal: run.signal, progress, after });
    if (writer) await writer.finish();
    else await copyWhole(file, crate.at(takenDump));
  } catch (error) {
    await writer?.discard();
    throw error;
  }
  return { tables: [...count.tables.values()], leftOut: writer ? count.leftOut : [] };
}

async function copyWhole(from: string, to: string): Promise<void> {
  await whileDoing(`Writing ${to}`, async () => {
    await copyFile(from, `${to}.partial`);
    await chmod(`${to}.partial`, 0o600);
    await rename(`${to}.partial`, to);
  });
}
