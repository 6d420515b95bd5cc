import type { DataEdit } from '../../../core/site/data/data-edits.js';
import { type RowChange, RowEdits, statementOf, whereSql } from '../../../core/site/data/row-edits.js';
import { identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { EditCount } from '../database-end.js';
import type { DatabaseSession } from './session/session.js';

/**
 * Carries out edits in one transaction, with two round trips; where one works on a row that another has changed, each in a
 * transaction of its own.
 */
export async function carryOut(
  session: DatabaseSession,
  edits: readonly DataEdit[],
  before: (changes: readonly RowChange[]) => Promise<void>,
): Promise<EditCount[]> {
  if (edits.length === 0) return [];
  const counts = await together(session, edits, before);
  if (counts) return counts;
  const alone: EditCount[] = [];
  for (const edit of edits) alone.push(...(await together(session, [edit], before))!);
  return alone;
}

/** @returns undefined where nothing was done, for two of the edits change the same row */
async function together(
  session: DatabaseSession,
  edits: readonly DataEdit[],
  before: (changes: readonly RowChange[]) => Promise<void>,
): Promise<EditCount[] | undefined> {
  const changes = edits.map((): RowChange[] => []);
  const { effects, failed } = await session.together([
    { sql: sql`SET NAMES utf8mb4, SESSION sql_mode = ''` },
    { sql: sql`START TRANSACTION` },
    ...edits.map((edit, i) => lookOf(edit, changes[i]!)),
  ]);
  if (failed) {
    await session.run(sql`ROLLBACK`);
    throw failed.error;
  }
  const all = changes.flat();
  if (new Set(all.map(rowOf)).size < all.length) {
    await session.run(sql`ROLLBACK`);
    return undefined;
  }
  await before(all);
  await session.runAll(...all.map(statementOf), sql`COMMIT`);
  return edits.map((_, i) => ({
    rows: (effects[i + 2]?.affected ?? 0) + changes[i]!.length,
    changes: changes[i]!,
  }));
}

/** Removes the rows of an edit that takes them away, or looks at those that another changes. */
function lookOf(edit: DataEdit, changes: RowChange[]) {
  const { table, change, key, where } = edit;
  const from = identifier(table);
  if ('remove' in change) return { sql: sql`DELETE FROM ${from}${whereSql(where)}` };
  const columns = [
    ...new Set([...key, change.column, change.from ?? change.column, ...where.map(one => one.column)]),
  ];
  const named = columns.map(name => ({ name }));
  const alone = new RowEdits([edit]);
  return {
    sql: sql`SELECT ${joined(columns.map(identifier))} FROM ${from}${whereSql(where)} FOR UPDATE`,
    take: (cells: (Buffer | null)[]) => {
      alone.apply(table, named, cells, one => changes.push(one));
    },
  };
}

function rowOf({ edit, put }: RowChange): string {
  return JSON.stringify([edit.table, put?.key]);
}
