import { basename } from 'node:path';
import pMap from 'p-map';
import { textOf } from '../../core/bytes.js';
import { DumpContent, type Program } from '../../core/database/content/dump-content.js';
import { UsageError } from '../../core/errors.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { DumpRewriter } from '../../core/rewrite/carriers/dump.js';
import { compileDumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import type { SiteFigures } from '../../core/site/data/site-figures.js';
import type { Family } from '../../core/site/families/family.js';
import { ownershipOf } from '../../core/site/survey/site-tables.js';
import type { Column } from '../../core/sql/column.js';
import { agreeing, counted } from '../../core/text/numbers.js';
import type { DatabaseConnection, DatabaseEnd, SeenTable } from '../../ends/database/database-end.js';
import { readDump, together } from '../../ends/database/dump/reader.js';
import { type CrateManifest, movedDump } from '../../ends/move-folder/crate.js';
import type { LoadedDatabase } from '../deliver/database/loaded.js';
import { type TableProof, tablesAtOnce } from '../deliver/database/verify.js';
import { newDatabaseOf } from '../move/databases.js';
import { readResult, type StepRun } from '../move/step.js';
import { tablesOfCrate } from '../move/tables.js';
import { dumpTermsOf, newTableName, prefixChangeOf } from '../move/terms.js';
import type { LeftOver } from './files.js';
import { newFigures } from './site/figures.js';
import { leftOverIn, type TableComparison } from './tables.js';

/**
 * Compares the tables of the new server, read back, with what was delivered there; and that with the old dump. Old
 * addresses that were loaded are added to `leftOver`.
 */
export async function compareDatabase(
  run: StepRun,
  family: Family,
  leftOver: LeftOver[],
): Promise<{ tables: TableComparison[]; findings: Finding[]; figures: SiteFigures }> {
  const { database, loaded } = await loadedDatabase(run);
  const manifest = await run.move.crate.manifest();
  const dump = await readMovedDump(run, family, leftOver);
  return database.use(async connection => {
    const [there, triggers, columns] = await Promise.all([
      connection.tables(),
      connection.triggers(),
      connection.columns(),
      connection.speakAs(dump),
    ]);
    const now = await lookAt(run, connection, loaded.tables, columns);
    const tables = comparisons(run, family, { manifest, loaded, now });
    const seen = { family, place: database.text, there, triggers, manifest, dump, tables };
    const findings = [...changedFindings(database, tables), ...structureFindings(run, seen)];
    const change = prefixChangeOf(run.move, family, manifest.from.prefix);
    const figures = await newFigures(connection, family, change?.to ?? manifest.from.prefix ?? '');
    return { tables, findings, figures };
  });
}

async function loadedDatabase({ move }: StepRun): Promise<{ database: DatabaseEnd; loaded: LoadedDatabase }> {
  const database = newDatabaseOf(move);
  const loaded = (await readResult<{ database?: LoadedDatabase }>(move.folder, 'deliver'))?.result.database;
  if (database && loaded && loaded.tables.length > 0) return { database, loaded };
  throw new UsageError({
    doing: 'Checking the new database',
    cause: 'this move has not loaded it yet',
    remedy: 'Run "able-porter deliver" first',
  });
}

/** Reads the dump that was loaded: what it makes, and which old addresses are in it. */
async function readMovedDump(run: StepRun, family: Family, leftOver: LeftOver[]): Promise<DumpContent> {
  const { bench } = run.move;
  const dump = new DumpContent(bench, { columns: new Map() });
  const look = new DumpRewriter(compileDumpTerms(bench, dumpTermsOf(run.move, family)));
  const file = run.move.crate.at(movedDump);
  await readDump(bench, file, together(dump, look), {
    signal: run.signal,
    progress: done => run.events({ type: 'progress', what: basename(file), done, of: 0, unit: 'bytes' }),
  });
  for (const place of look.tally.all()) leftOver.push(...leftOverIn(place));
  return dump;
}

function comparisons(
  { move }: StepRun,
  family: Family,
  {
    manifest,
    loaded,
    now,
  }: {
    readonly manifest: CrateManifest;
    readonly loaded: LoadedDatabase;
    readonly now: ReadonlyMap<string, { rows: number; digest: string }>;
  },
): TableComparison[] {
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  return tablesOfCrate(move, manifest).own.map(({ table, rows }) => {
    const newTable = newTableName(table, change);
    const proof = loaded.tables.find(one => one.table === newTable);
    const seen = now.get(newTable);
    const equal = proof?.equal === true && seen !== undefined;
    const since = equal && seen.digest !== proof.digest;
    const { taken } = proof ?? {};
    return { table: textOf(table), newTable, oldRows: rows, newRows: seen?.rows, equal, since, taken };
  });
}

function changedFindings({ text }: DatabaseEnd, tables: readonly TableComparison[]): Finding[] {
  const changed = tables.filter(({ since }) => since).map(({ newTable }) => newTable);
  if (changed.length === 0) return [];
  return [
    finding({
      level: 'note',
      code: 'table-changed-since',
      place: text,
      what: `The site has written to ${counted(changed.length, 'table')} since they were delivered: ${changed.join(', ')}`,
      remedy:
        'Nothing needs to be done if the new site has been opened meanwhile; a last delivery before the cutover loads them again',
    }),
  ];
}

/** What the new database has too much, and what it lacks. */
function structureFindings(
  { move }: StepRun,
  {
    family,
    place,
    there,
    triggers,
    manifest,
    dump,
    tables,
  }: {
    readonly family: Family;
    readonly place: string;
    readonly there: readonly SeenTable[];
    readonly triggers: readonly string[];
    readonly manifest: CrateManifest;
    readonly dump: DumpContent;
    readonly tables: readonly TableComparison[];
  },
): Finding[] {
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  const prefix = change?.to ?? manifest.from.prefix ?? '';
  const known = new Set([...tables.map(({ newTable }) => newTable), ...programNames(dump, 'VIEW')]);
  const all = there.map(({ name }) => name);
  const owns = ownershipOf({ family, prefix: prefix === '' ? undefined : prefix }, all);
  const extra = prefix === '' ? [] : all.filter(name => owns(name) && !known.has(name));
  const names = new Set([...all, ...triggers]);
  const programs = [...programNames(dump, 'VIEW'), ...programNames(dump, 'TRIGGER')];
  return [
    ...extraTables(extra, prefix, place),
    ...missingPrograms(
      programs.filter(name => !names.has(name)),
      place,
    ),
    ...lowerNumbers(dump, there, place),
  ];
}

function programNames({ programs }: DumpContent, kind: Program['kind']): string[] {
  return programs.filter(one => one.kind === kind).map(({ name }) => name);
}

function extraTables(extra: readonly string[], prefix: string, place: string): Finding[] {
  if (extra.length === 0) return [];
  return [
    finding({
      level: 'note',
      code: 'table-extra',
      place,
      what: `${counted(extra.length, 'more table', 'more tables')} ${agreeing(extra.length, 'is', 'are')} under the prefix "${prefix}": ${extra.join(', ')}`,
      remedy: 'Check whether the new site made them',
    }),
  ];
}

function missingPrograms(missing: readonly string[], place: string): Finding[] {
  if (missing.length === 0) return [];
  return [
    finding({
      level: 'stop',
      code: 'program-missing',
      place,
      what: `Views or triggers of the old database are missing: ${missing.join(', ')}`,
      remedy: 'Give the user the rights CREATE VIEW and TRIGGER, then deliver again',
    }),
  ];
}

/** Tables whose next automatic number is lower than in the dump. */
function lowerNumbers({ nextNumbers }: DumpContent, there: readonly SeenTable[], place: string): Finding[] {
  return [...nextNumbers].flatMap(([table, next]) => {
    const found = there.find(({ name }) => name === table)?.autoIncrement;
    if (found === undefined || BigInt(found) >= BigInt(next)) return [];
    return finding({
      level: 'warn',
      code: 'numbers-begin-lower',
      place,
      what: `The next automatic number of the table ${table} is ${found}, at the old server ${next}`,
      remedy: `ALTER TABLE ${table} AUTO_INCREMENT = ${next}`,
    });
  });
}

async function lookAt(
  run: StepRun,
  connection: DatabaseConnection,
  tables: readonly TableProof[],
  columns: ReadonlyMap<string, readonly Column[]>,
): Promise<Map<string, { rows: number; digest: string }>> {
  const seen = new Map<string, { rows: number; digest: string }>();
  let done = 0;
  await pMap(
    tables,
    async ({ table }) => {
      run.signal.throwIfAborted();
      const own = columns.get(table);
      if (own) seen.set(table, await connection.content(table, own));
      done++;
      run.events({ type: 'progress', what: table, done, of: tables.length, unit: 'tables' });
    },
    { concurrency: tablesAtOnce },
  );
  return seen;
}
