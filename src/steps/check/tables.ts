import { stat } from 'node:fs/promises';
import { basename } from 'node:path';
import { type Finding, finding } from '../../core/findings/findings.js';
import { DumpRewriter } from '../../core/rewrite/carriers/dump.js';
import { compileDumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import type { PlaceTally } from '../../core/rewrite/report/tally.js';
import { renamed } from '../../core/rewrite/terms/prefix.js';
import type { Family } from '../../core/site/families/family.js';
import { TableDigests } from '../../core/sql/table-digest.js';
import { readDump, together } from '../../ends/database/dump/reader.js';
import { takenDump } from '../../ends/move-folder/crate.js';
import type { StepRun } from '../move/step.js';
import { tablesOfCrate, takesOfCrate } from '../move/tables.js';
import { dumpTermsOf, prefixChangeOf } from '../move/terms.js';
import type { LeftOver } from './files.js';

/** A table of the dump as taken beside the same of the finished dump. */
export interface TableComparison {
  readonly table: string;
  readonly newTable: string;
  readonly oldRows: number;
  readonly newRows: number | undefined;
  /** Whether the rows are those of the old dump with its addresses rewritten, byte for byte. */
  readonly equal: boolean;
  /** Equal when it was delivered; the site has written to it since. */
  readonly since?: boolean;
  /** Rows that delivery removed on purpose, such as sessions and caches. */
  readonly taken?: number;
}

/**
 * Compares every table: its rows and their content in the finished dump with those of the dump as taken, rewritten
 * once more. Old addresses that the finished dump still holds are added to `leftOver`.
 */
export async function compareTables(
  run: StepRun,
  family: Family,
  leftOver: LeftOver[],
): Promise<TableComparison[]> {
  const { move } = run;
  const { bench } = move;
  const manifest = await move.crate.manifest();
  const prefix = prefixChangeOf(move, family, manifest.from.prefix);
  const terms = dumpTermsOf(move, family);
  const progress = (file: string, of: number) => (done: number) =>
    run.events({ type: 'progress', what: basename(file), done, of, unit: 'bytes' });

  // What the finished dump should hold: the dump as taken, rewritten once more.
  const expected = new TableDigests(bench);
  const takes = takesOfCrate(move, manifest);
  const again = new DumpRewriter(compileDumpTerms(bench, { ...terms, prefix, takes }), chunk =>
    expected.push(chunk),
  );
  const taken = move.crate.at(takenDump);
  await readDump(bench, taken, again, {
    signal: run.signal,
    progress: progress(taken, manifest.parts[takenDump]!.bytes),
  });
  expected.finish();

  // What it does hold, and which old addresses are still in it.
  const found = new TableDigests(bench);
  const look = new DumpRewriter(compileDumpTerms(bench, terms));
  const finishedDump = String(move.newDump);
  const { size } = await stat(finishedDump);
  await readDump(bench, finishedDump, together(found, look), {
    signal: run.signal,
    progress: progress(finishedDump, size),
  });
  for (const place of look.tally.all()) leftOver.push(...leftOverIn(place));

  const finished = new Map(found.contents().map(content => [content.table, content]));
  const wanted = new Map(expected.contents().map(content => [content.table, content]));
  return tablesOfCrate(move, manifest).own.map(({ table, rows }) => {
    const newTable = renamed(table, prefix) ?? table;
    const content = finished.get(newTable);
    const equal =
      content !== undefined && content.rows === rows && content.digest === wanted.get(newTable)?.digest;
    return { table, newTable, oldRows: rows, newRows: content?.rows, equal };
  });
}

/** Old addresses that stand somewhere, by why they do. */
export function leftOverIn(place: PlaceTally): LeftOver[] {
  const where = `${place.table}.${place.column}`;
  const found = Object.values(place.forms).reduce((sum, n) => sum + n, 0);
  const list: LeftOver[] = [];
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

/**
 * What of a comparison of tables an administrator should know about.
 * @param place the finished dump, or the database
 * @param remedy what puts it right
 */
export function tableFindings(place: string, tables: readonly TableComparison[], remedy: string): Finding[] {
  const missing = tables.filter(({ newRows }) => newRows === undefined).map(({ newTable }) => newTable);
  const some = missing.slice(0, 6).join(', ') + (missing.length > 6 ? ', …' : '');
  const findings: Finding[] = [];
  if (missing.length > 0) {
    findings.push(
      finding({
        level: 'stop',
        code: 'table-missing',
        place,
        what: `${missing.length} of ${tables.length} tables ${missing.length === 1 ? 'is' : 'are'} not there: ${some}`,
        remedy,
      }),
    );
  }
  for (const { newTable, oldRows, newRows, equal } of tables) {
    if (equal || newRows === undefined) continue;
    findings.push(
      finding({
        level: 'stop',
        code: 'table-different',
        place: `${place}, table ${newTable}`,
        what: `Its rows differ from those that were taken (${newRows} of ${oldRows})`,
        remedy,
      }),
    );
  }
  return findings;
}
