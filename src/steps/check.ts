import { createHash } from 'node:crypto';
import { basename } from 'node:path';
import { type ByteString, bufferOf, textOf } from '../core/bytes.js';
import { UsageError } from '../core/errors.js';
import type { FileEntry } from '../core/files/entries.js';
import { byWeight, type Finding } from '../core/findings.js';
import type { PageComparison } from '../core/pages/compare.js';
import { DumpRewriter } from '../core/rewrite/dump.js';
import { renamed } from '../core/rewrite/prefix.js';
import { observerOf, type PlaceTally, Tally } from '../core/rewrite/tally.js';
import { editsInValue } from '../core/rewrite/value.js';
import { familyNamed } from '../core/site/families.js';
import type { FactName, Family } from '../core/site/family.js';
import { TableDigests } from '../core/sql/table-digest.js';
import { checksumOf } from '../ends/crate.js';
import { readDump } from '../ends/database/dump-reader.js';
import { LocalFiles } from '../ends/files/local.js';
import { comparePagesOf } from './check-pages.js';
import { fit, isFittable, wantedOf } from './configure.js';
import {
  identityOf,
  leaveOf,
  lookAtSite,
  type Move,
  prefixChangeOf,
  readAll,
  rulesOf,
  treeIdentity,
} from './move.js';
import { takenDump } from './pack.js';
import { inParallel } from './parallel.js';
import { movedFiles } from './rewrite.js';
import { doStep, type StepOutcome, type StepRun } from './run.js';

/** A table of the dump as taken beside the same of the finished dump. */
interface TableComparison {
  readonly table: string;
  readonly newTable: string;
  readonly oldRows: number;
  readonly newRows: number | undefined;
  /** Whether the rows are those of the old dump with its addresses rewritten, byte for byte. */
  readonly equal: boolean;
}

export interface CheckResult {
  readonly files:
    | {
        readonly compared: number;
        readonly equal: number;
        readonly edited: number;
        readonly missing: readonly string[];
        readonly different: readonly string[];
        readonly extra: readonly string[];
      }
    | undefined;
  readonly tables: readonly TableComparison[];
  /** Old addresses that are still there, by place. */
  readonly leftOver: readonly {
    readonly place: string;
    readonly count: number;
    readonly sample: string;
    readonly why: 'not rewritten' | 'left on purpose' | 'damaged value';
  }[];
  readonly pages: readonly PageComparison[];
}

/** Compares the new end with the old: files, rows, left-over addresses and pages. Changes nothing. */
export async function check(run: StepRun): Promise<StepOutcome<CheckResult>> {
  const { move } = run;
  const { crate } = move;
  const manifest = await crate.manifest();
  const family = familyNamed(manifest.from.family);
  const tree = move.newFiles ? await listNew(run, new LocalFiles(move.newFiles)) : [];
  const dump = move.newDump && manifest.tables.length > 0 ? await identityOf(move.newDump) : undefined;
  return doStep(run, 'check', inputsOf(run, await crate.identity(), tree, dump), async () => {
    const findings: Finding[] = [];
    const leftOver: CheckResult['leftOver'][number][] = [];
    const files =
      move.newFiles && manifest.counts.files > 0
        ? await compareFiles(run, family, tree, leftOver)
        : undefined;
    if (files) {
      findings.push(...fileFindings(move.newFiles!, files), ...(await configurationFindings(move, family)));
    }
    const tables = dump ? await compareTables(run, family, leftOver) : [];
    findings.push(...tableFindings(move.newDump ?? '', tables), ...leftOverFindings(leftOver));
    const { pages, findings: seen } = await comparePagesOf(run, family);
    findings.push(...seen);
    const result: CheckResult = { files, tables, leftOver, pages };
    const sorted = byWeight(findings);
    for (const finding of sorted) run.events({ type: 'finding', finding });
    return {
      result,
      findings: sorted,
      brief: { files: files?.equal, tables: tables.length, pages: pages.length },
    };
  });
}

/** What a check depends on. */
export async function checkInputs(run: StepRun): Promise<unknown> {
  const { crate, newFiles, newDump } = run.move;
  const tree = newFiles ? await listNew(run, new LocalFiles(newFiles)) : [];
  const { tables } = await crate.manifest();
  return inputsOf(
    run,
    await crate.identity(),
    tree,
    newDump && tables.length > 0 ? await identityOf(newDump) : undefined,
  );
}

function inputsOf({ move }: StepRun, crate: string | undefined, tree: FileEntry[], dump: unknown): unknown {
  const { old, new: next } = move.sheet;
  return {
    crate,
    tree: treeIdentity(tree),
    dump,
    pairs: rulesOf(move).pairs,
    reach: [old.reach, next.reach],
  };
}

async function listNew(run: StepRun, files: LocalFiles): Promise<FileEntry[]> {
  if (!(await files.isThere())) {
    throw new UsageError({
      doing: `Checking ${files.place}`,
      cause: 'it is not there',
      remedy: 'Run "able-porter deliver" first',
    });
  }
  const entries: FileEntry[] = [];
  for await (const entry of files.list(() => false, run.signal)) entries.push(entry);
  return entries;
}

const readable =
  /\.(?:php|css|js|json|html?|xml|txt|svg|ini|conf|webmanifest)$|(?:^|\/)\.(?:htaccess|user\.ini)$/i;
const largestText = 8 * 1024 * 1024;

async function compareFiles(
  run: StepRun,
  family: Family,
  tree: readonly FileEntry[],
  leftOver: CheckResult['leftOver'][number][],
): Promise<NonNullable<CheckResult['files']>> {
  const { move } = run;
  const place = new LocalFiles(move.newFiles!);
  const rewritten = new Map((await move.crate.entries(movedFiles)).map(entry => [entry.path, entry]));
  const wanted = new Map(
    (await move.crate.entries()).map(entry => [entry.path, rewritten.get(entry.path) ?? entry]),
  );
  const missing: string[] = [];
  const different: string[] = [];
  let equal = 0;
  let edited = 0;
  const rules = rulesOf(move);
  const there = new Set<string>(tree.map(entry => entry.path));
  for (const [path, entry] of wanted)
    if (entry.type !== 'folder' && !there.has(path)) missing.push(textOf(path));
  const extra = tree
    .filter(({ path, type }) => type !== 'folder' && !wanted.has(path))
    .map(({ path }) => textOf(path));
  const files = tree.filter(entry => entry.type === 'file' && wanted.has(entry.path));
  let done = 0;
  await inParallel(files, run.signal, async entry => {
    const expected = wanted.get(entry.path)!;
    const { sha256 } = await checksumOf(`${place.place}/${textOf(entry.path)}`);
    if (sha256 === expected.sha256) equal++;
    else if (family.configurations.includes(entry.path) || (await isFitted(move, entry.path, sha256)))
      edited++;
    else different.push(textOf(entry.path));
    if (readable.test(entry.path) && entry.size <= largestText) {
      const tally = new Tally();
      const seen = tally.at('files', textOf(entry.path));
      const bytes = await readAll(place, entry.path);
      const edits = editsInValue(bytes, rules, observerOf(seen));
      if (edits.length > 0) {
        const { start, end } = edits[0]!;
        const line = bytes.slice(0, start).split('\n').length;
        leftOver.push({
          place: `${place.place}/${textOf(entry.path)}:${line}`,
          count: edits.length,
          sample: textOf(bytes.slice(start, end)),
          why: 'not rewritten',
        });
      }
    }
    run.events({ type: 'progress', what: textOf(entry.path), done: ++done, of: files.length, unit: 'files' });
  });
  return { compared: files.length, equal, edited, missing, different, extra };
}

/** Whether a file at the new end is that of the crate, fitted to the new path and address. */
async function isFitted(move: Move, path: ByteString, sha256: string): Promise<boolean> {
  if (!isFittable(move, path)) return false;
  const rewritten = (await move.crate.movedFiles.entry(path)) !== undefined;
  const source = await readAll(rewritten ? move.crate.movedFiles : move.crate.files, path);
  return (
    createHash('sha256')
      .update(bufferOf(fit(move, path, source)))
      .digest('hex') === sha256
  );
}

async function compareTables(
  run: StepRun,
  family: Family,
  leftOver: CheckResult['leftOver'][number][],
): Promise<TableComparison[]> {
  const { move } = run;
  const manifest = await move.crate.manifest();
  const prefix = prefixChangeOf(move, family, manifest.from.prefix);
  const what = { rules: rulesOf(move), prefix, leave: leaveOf(move, family) };
  const progress = (file: string, of: number) => (done: number) =>
    run.events({ type: 'progress', what: basename(file), done, of, unit: 'bytes' });

  // What the finished dump should hold: the dump as taken, rewritten once more.
  const expected = new TableDigests();
  const again = new DumpRewriter(what, chunk => expected.push(chunk));
  const taken = move.crate.at(takenDump);
  await readDump(taken, again, {
    signal: run.signal,
    progress: progress(taken, manifest.parts[takenDump]!.bytes),
  });
  expected.finish();

  // What it does hold, and which old addresses are still in it.
  const found = new TableDigests();
  const look = new DumpRewriter({ ...what, prefix: undefined });
  const both = {
    push: (chunk: Buffer) => {
      found.push(chunk);
      look.push(chunk);
    },
    finish: () => {
      found.finish();
      look.finish();
    },
  };
  const { size } = (await identityOf(move.newDump)) as { size: number };
  await readDump(move.newDump!, both, { signal: run.signal, progress: progress(move.newDump!, size) });
  for (const place of look.tally.all()) leftOver.push(...leftOverIn(place));

  const finished = new Map(found.contents().map(content => [content.table, content]));
  const wanted = new Map(expected.contents().map(content => [content.table, content]));
  return manifest.tables.map(({ table, rows }) => {
    const newTable = renamed(table, prefix) ?? table;
    const content = finished.get(newTable);
    const equal =
      content !== undefined && content.rows === rows && content.digest === wanted.get(newTable)?.digest;
    return { table, newTable, oldRows: rows, newRows: content?.rows, equal };
  });
}

function leftOverIn(place: PlaceTally): CheckResult['leftOver'][number][] {
  const where = `${place.table}.${place.column}`;
  const found = Object.values(place.forms).reduce((sum, n) => sum + n, 0);
  const list: CheckResult['leftOver'][number][] = [];
  if (found > 0)
    list.push({ place: where, count: found, sample: place.samples[0]?.before ?? '', why: 'not rewritten' });
  if (place.left > 0)
    list.push({
      place: where,
      count: place.left,
      sample: place.missSamples.left ?? '',
      why: 'left on purpose',
    });
  if (place.damaged > 0) {
    list.push({
      place: where,
      count: place.damaged,
      sample: place.missSamples.damaged ?? '',
      why: 'damaged value',
    });
  }
  return list;
}

/** Whether the new configuration says what the sheet wants. */
async function configurationFindings(move: Move, family: Family): Promise<Finding[]> {
  const files = new LocalFiles(move.newFiles!);
  const { configuration, facts } = await lookAtSite(files);
  if (configuration === undefined || !facts) return [];
  return Object.entries(wantedOf(move, family, facts))
    .filter(([fact, wanted]) => ![undefined, wanted].includes(facts[fact as FactName]?.value))
    .map(([fact]) => ({
      level: 'stop' as const,
      code: 'configuration-differs',
      place: `${files.place}/${configuration}:${facts[fact as FactName]?.line ?? 1}`,
      what: `The ${fact} in the configuration is not what the sheet says`,
      remedy: 'Correct it there, or correct the sheet and run "able-porter deliver"',
    }));
}

function fileFindings(place: string, files: NonNullable<CheckResult['files']>): Finding[] {
  const told = (
    code: string,
    level: Finding['level'],
    names: readonly string[],
    what: string,
    remedy: string,
  ): Finding[] =>
    names.length === 0
      ? []
      : [
          {
            level,
            code,
            place: `${place}/${names[0]}`,
            what: `${names.length} ${names.length === 1 ? 'file' : 'files'} ${what}`,
            remedy,
          },
        ];
  return [
    ...told(
      'file-missing',
      'stop',
      files.missing,
      'of the crate missing at the new end',
      'Run "able-porter deliver --again"',
    ),
    ...told(
      'file-different',
      'stop',
      files.different,
      'other than in the crate',
      'If nobody changed it on purpose, run "able-porter deliver --again"',
    ),
    ...told(
      'file-extra',
      'note',
      files.extra,
      'at the new end that the crate does not hold',
      'Look whether the new site has written it',
    ),
  ];
}

function tableFindings(file: string, tables: readonly TableComparison[]): Finding[] {
  return tables
    .filter(({ equal }) => !equal)
    .map(({ table, newTable, oldRows, newRows }) => ({
      level: 'stop' as const,
      code: newRows === undefined ? 'table-missing' : 'table-different',
      place: `${basename(file)}, table ${newTable}`,
      what:
        newRows === undefined
          ? `The table ${table} is not in the finished dump`
          : `Its rows are not those that were taken (${newRows} of ${oldRows})`,
      remedy: 'Run "able-porter rewrite --again", then deliver',
    }));
}

function leftOverFindings(leftOver: CheckResult['leftOver']): Finding[] {
  return leftOver
    .filter(({ why }) => why === 'not rewritten')
    .map(({ place, count, sample }) => ({
      level: 'warn' as const,
      code: 'address-left-over',
      place,
      what: `${count} old ${count === 1 ? 'address is' : 'addresses are'} still there (${sample})`,
      remedy:
        'Change it by hand in the file or the row, or name the column in rewrite.leave if it is to stay',
    }));
}
