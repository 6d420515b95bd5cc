import { rm } from 'node:fs/promises';
import { basename } from 'node:path';
import { readDatabaseUrl, shownDatabase } from '../core/database/place.js';
import { UsageError } from '../core/errors.js';
import type { FileEntry } from '../core/files/entries.js';
import { type Finding, finding } from '../core/findings/findings.js';
import { traceOfSecret } from '../core/journal.js';
import { familyNamed } from '../core/site/families/families.js';
import { type Seen, worstOf } from '../core/verdict.js';
import type { FilesEnd } from '../ends/files/files-end.js';
import { readEntryList, writeEntryList } from '../ends/move-folder/entry-list.js';
import { compareDatabase } from './check/database.js';
import { compareExport } from './check/export.js';
import { compareFiles, configurationFindings, fileFindings, type LeftOver } from './check/files.js';
import { lookAtPages } from './check/look/look.js';
import { comparePagesOf, notReachable } from './check/pages/compare.js';
import { type Compared, seenBy } from './check/seen.js';
import { openSites } from './check/site/both-sites.js';
import { ExposedFiles } from './check/site/exposed.js';
import { figureFindings, oldFigures } from './check/site/figures.js';
import { compareTables, tableFindings } from './check/tables.js';
import { isOwn } from './deliver/files/staging.js';
import { identityOf, identityOfTree, TreeIdentity } from './move/identity.js';
import type { Move } from './move/open.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';
import { crateTablesFindings } from './move/tables.js';
import { rulesOf } from './move/terms.js';
import { sideBySide } from './overlap/side-by-side.js';

export interface CheckResult extends Compared {
  /** What was looked at, and what was seen. */
  readonly seen: readonly Seen[];
}

/** What is looked at besides what the sheet names. */
export interface CheckOptions {
  /** A dump that somebody exported from the new database, to be compared with what was to be loaded. */
  readonly exported?: string | undefined;
  /** Open pages of both sites in a browser, too. */
  readonly look?: boolean | undefined;
}

/** Compares the new end with the old: files, rows, left-over addresses and pages. Changes nothing. */
export async function check(
  run: StepRun,
  { exported, look }: CheckOptions = {},
): Promise<StepOutcome<CheckResult>> {
  const { move } = run;
  const { crate } = move;
  const manifest = await crate.manifest();
  const family = familyNamed(manifest.from.family);
  const tree = move.newFiles ? await keepListing(run, move.newFiles.open()) : undefined;
  const dump = move.newDump && manifest.tables.length > 0 ? await identityOf(move.newDump.path) : undefined;
  // What is in a live database may have changed meanwhile.
  const again = run.again || exported !== undefined || look || (move.newLive && manifest.tables.length > 0);
  try {
    const inputs = inputsOf(run, await crate.identity(), tree, dump);
    return await doStep<CheckResult>({ ...run, again }, 'check', inputs, async findings => {
      const leftOver: LeftOver[] = [];
      findings.add(...crateTablesFindings(move, manifest));
      if (findings.stops)
        return {
          result: { files: undefined, tables: [], leftOver, pages: [], assets: 0, seen: [] },
          brief: {},
        };
      const [ofFiles, ofTables] = [findings.part(), findings.part()];
      const [leftInFiles, leftInTables]: [LeftOver[], LeftOver[]] = [[], []];
      const live = move.newLive && manifest.tables.length > 0 && exported === undefined;
      const ofPages = findings.part();
      const exposed = new ExposedFiles(family);
      const figures = oldFigures(run, manifest);
      // Whoever asks for them first hears of what is wrong with the dump.
      figures.catch(() => {});
      const sites = move.sheet.new.reach === undefined ? undefined : openSites(run, family);
      const {
        files,
        database: tables,
        pages: compared,
      } = await sideBySide(run, {
        files: async (run: StepRun) => {
          const place = move.newFiles;
          if (!place || manifest.counts.files === 0) return undefined;
          const found = { family, manifest, place, tree: listingOf(move), leftOver: leftInFiles, exposed };
          const [files, configuration] = await Promise.all([
            compareFiles(run, found),
            configurationFindings(move, family),
          ]);
          ofFiles.add(...fileFindings(String(place), files), ...configuration);
          ofFiles.add(...(await exposed.findings(run, String(place), sites)));
          return files;
        },
        database: async (run: StepRun) => {
          if (exported !== undefined) return compareExport(run, family, exported, leftInTables);
          if (!live) return dump ? compareTables(run, family, leftInTables) : [];
          const database = await compareDatabase(run, family, leftInTables);
          ofTables.add(...database.findings);
          const place = comparedWith(move, undefined);
          ofTables.add(...figureFindings(run, place, await figures, database.figures));
          return database.tables;
        },
        pages: async (run: StepRun) => (sites ? comparePagesOf(run, sites, figures, inputs) : notReachable()),
      });
      const looked = look && sites ? await lookAtPages(run, sites, compared.pages) : undefined;
      await Promise.all([sites?.old.close(), sites?.new.close()]);
      leftOver.push(...leftInFiles, ...leftInTables);
      findings.add(
        ...tableFindings(comparedWith(move, exported), tables, remedyFor(move, exported)),
        ...leftOverFindings(leftOver),
      );
      ofPages.add(...compared.findings, ...(looked?.findings ?? []));
      const { pages, assets } = compared;
      const result = { files, tables, leftOver, pages, assets, looks: looked?.looks };
      const seen = seenBy(move, manifest, result, exported !== undefined);
      const brief = { files: files?.equal, tables: tables.length, pages: pages.length };
      return {
        result: { ...result, seen },
        brief: { ...brief, seen: worstOf(seen), exported: exported !== undefined },
      };
    });
  } finally {
    await rm(move.folder.at(listing), { force: true });
  }
}

/** What the tables were looked for in. */
function comparedWith({ newDump, sheet }: Move, exported: string | undefined): string {
  const file = exported ?? newDump?.path;
  if (file !== undefined) return basename(file);
  const place = readDatabaseUrl(sheet.new.database?.server ?? '');
  return place ? shownDatabase(place) : 'the new database';
}

function remedyFor({ newLive }: Move, exported: string | undefined): string {
  if (exported !== undefined) return 'Load the finished dump again, export it again, and compare again';
  return newLive ? 'Run "able-porter deliver --again"' : 'Run "able-porter rewrite --again", then deliver';
}

/** What a check depends on. */
export async function checkInputs(run: StepRun): Promise<unknown> {
  const { crate, newFiles, newDump } = run.move;
  const tree = newFiles ? await identityOfTree(await listNew(run, newFiles.open())) : undefined;
  const { tables } = await crate.manifest();
  return inputsOf(
    run,
    await crate.identity(),
    tree,
    newDump && tables.length > 0 ? await identityOf(newDump.path) : undefined,
  );
}

function inputsOf(
  { move }: StepRun,
  crate: string | undefined,
  tree: string | undefined,
  dump: unknown,
): unknown {
  const { old, new: next, check, configure } = move.sheet;
  const database = next.database && { ...next.database, password: traceOfSecret(next.database.password) };
  return {
    database,
    crate,
    tree,
    dump,
    pairs: rulesOf(move).pairs,
    reach: [old.reach, next.reach, old['reach-https'], next['reach-https']],
    check: { ...check, login: check.login?.user },
    expected: expectedBy(configure),
  };
}

/** What of the sheet changes pages. */
function expectedBy({ title, tagline, maintenance, ...configure }: Move['sheet']['configure']): unknown {
  return { title, tagline, maintenance, engines: configure['search-engines'], off: configure['switch-off'] };
}

/** What is at the new end while it is looked at, in the move folder. */
const listing = 'results/looked-at.ndjson';

/** Lists the new end into the move folder; gives a digest of it. */
async function keepListing(run: StepRun, files: FilesEnd): Promise<string> {
  const identity = new TreeIdentity();
  await writeEntryList(run.move.folder.at(listing), identity.through(await listNew(run, files)));
  return identity.digest();
}

function listingOf({ folder }: Move): AsyncIterable<FileEntry> {
  return readEntryList(folder.at(listing), { ofEnd: true });
}

async function listNew(run: StepRun, files: FilesEnd): Promise<AsyncIterable<FileEntry>> {
  if (await files.isThere()) return files.list(({ path }) => isOwn(path), run.signal);
  throw new UsageError({
    doing: `Checking ${files.place}`,
    cause: 'it is not there',
    remedy: 'Run "able-porter deliver" first',
  });
}

function leftOverFindings(leftOver: readonly LeftOver[]): Finding[] {
  return leftOver
    .filter(({ why }) => why === 'not rewritten')
    .map(({ place, count, sample }) =>
      finding({
        level: 'warn',
        code: 'address-left-over',
        place,
        what: `${count} old ${count === 1 ? 'address is' : 'addresses are'} still there (${sample})`,
        remedy:
          'Change it by hand in the file or the row, or name the column in rewrite.leave if it is to stay',
      }),
    );
}
