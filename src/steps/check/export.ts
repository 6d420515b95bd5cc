import { basename, resolve } from 'node:path';
import { textOf } from '../../core/bytes.js';
import { DumpContent } from '../../core/database/content/dump-content.js';
import { DumpRewriter } from '../../core/rewrite/carriers/dump.js';
import { compileDumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import type { Family } from '../../core/site/families/family.js';
import { type DumpReader, readDump, together } from '../../ends/database/dump/reader.js';
import { movedDump } from '../../ends/move-folder/crate.js';
import { editsOfDump } from '../deliver/database/stage-dump.js';
import type { StepRun } from '../move/step.js';
import { tablesOfCrate } from '../move/tables.js';
import { dumpTermsOf, newTableName, prefixChangeOf } from '../move/terms.js';
import type { LeftOver } from './files.js';
import { leftOverIn, type TableComparison } from './tables.js';

/**
 * Compares a dump that somebody exported from the new database, by whatever program, with the finished dump: every
 * value by what it is and not by how it is written, the rows in any order.
 */
export async function compareExport(
  run: StepRun,
  family: Family,
  exported: string,
  leftOver: LeftOver[],
): Promise<TableComparison[]> {
  const { crate, bench } = run.move;
  const manifest = await crate.manifest();
  const change = prefixChangeOf(run.move, family, manifest.from.prefix);
  const read = async (file: string, content: DumpContent, look?: DumpReader) => {
    await readDump(bench, file, look ? together(content, look) : content, {
      signal: run.signal,
      progress: done => run.events({ type: 'progress', what: basename(file), done, of: 0, unit: 'bytes' }),
    });
    return content.contents();
  };
  const edits = editsOfDump(run.move, family, manifest);
  // What a secret was set to is known to nobody any more; of such a table only the rows are compared.
  const secret = new Set(
    edits.filter(one => one.secret && !('remove' in one.change)).map(({ table }) => table),
  );
  const finished = new DumpContent(bench, { edits });
  const wanted = await read(crate.at(movedDump), finished);
  const look = new DumpRewriter(compileDumpTerms(bench, dumpTermsOf(run.move, family)));
  const found = await read(resolve(exported), new DumpContent(bench, { columns: finished.columns }), look);
  for (const place of look.tally.all()) leftOver.push(...leftOverIn(place));
  return tablesOfCrate(run.move, manifest).own.map(({ table, rows }) => {
    const newTable = newTableName(table, change);
    const content = found.get(newTable);
    const expected = wanted.get(newTable);
    const same = secret.has(newTable)
      ? content?.rows === expected?.rows
      : content?.digest === expected?.digest;
    const equal = content !== undefined && same;
    const taken = rows - (expected?.rows ?? rows);
    return { table: textOf(table), newTable, oldRows: rows, newRows: content?.rows, equal, taken };
  });
}
