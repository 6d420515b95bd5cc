import { basename, resolve } from 'node:path';
import { textOf } from '../core/bytes.js';
import { DumpContent } from '../core/database/dump-content.js';
import { renamed } from '../core/rewrite/prefix.js';
import type { Family } from '../core/site/family.js';
import { readDump } from '../ends/database/dump-reader.js';
import type { TableComparison } from './check-tables.js';
import { prefixChangeOf } from './move.js';
import { movedDump } from './rewrite.js';
import type { StepRun } from './run.js';

/**
 * Compares a dump that somebody exported from the new database, by whatever program, with the finished dump: every
 * value by what it is and not by how it is written, the rows in any order.
 */
export async function compareExport(
  run: StepRun,
  family: Family,
  exported: string,
): Promise<TableComparison[]> {
  const { crate } = run.move;
  const manifest = await crate.manifest();
  const change = prefixChangeOf(run.move, family, manifest.from.prefix);
  const read = async (file: string, content: DumpContent) => {
    await readDump(file, content, {
      signal: run.signal,
      progress: done => run.events({ type: 'progress', what: basename(file), done, of: 0, unit: 'bytes' }),
    });
    return content.contents();
  };
  const finished = new DumpContent();
  const wanted = await read(crate.at(movedDump), finished);
  const found = await read(resolve(exported), new DumpContent(finished.columns));
  return manifest.tables.map(({ table, rows }) => {
    const newTable = textOf(renamed(table, change) ?? table);
    const content = found.get(newTable);
    const equal = content !== undefined && content.digest === wanted.get(newTable)?.digest;
    return { table: textOf(table), newTable, oldRows: rows, newRows: content?.rows, equal };
  });
}
