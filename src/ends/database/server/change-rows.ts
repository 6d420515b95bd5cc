import { ContentDigest, kindOf } from '../../../core/database/content/content-digest.js';
import { InsertWriter } from '../../../core/database/insert-writer.js';
import type { RowsToPut } from '../../../core/database/row-changes.js';
import { DamageError } from '../../../core/errors.js';
import { type Column, introducerOf, selectedAs, writingOf } from '../../../core/sql/column.js';
import { type EncodedSql, encodedSql, identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { KeptOldRows } from '../database-end.js';
import { whileLocked } from './locks.js';
import type { DatabaseSession } from './session.js';

/**
 * Changes rows of several tables in one transaction: what they were is on the disk before, and what was put is read back
 * before the transaction ends.
 * @param keep takes what the rows were, as statements that put them back
 */
export async function changeRows(
  session: DatabaseSession,
  tables: readonly RowsToPut[],
  { charset, note, keep }: { readonly charset: string; readonly note: string; readonly keep: KeptOldRows },
): Promise<void> {
  await session.run(sql`SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0`);
  await whileLocked(session, async () => {
    await session.run(sql`START TRANSACTION`);
    await keep.begin();
    for (const table of tables) {
      await keepOld(session, table, charset, keep);
      for (const list of table.where)
        await session.run(sql`DELETE FROM ${identifier(table.table)} WHERE ${list}`);
      for (const insert of table.inserts)
        for (const statement of statementsIn(insert)) await session.run(statement);
      await verify(session, table);
    }
    await session.run(sql`UPDATE ${identifier(note)} SET done = -1`);
    await keep.finish();
    await session.run(sql`COMMIT`);
  });
}

/** Writes down what the rows were: those that are new now go, and those that were there come back. */
async function keepOld(
  session: DatabaseSession,
  table: RowsToPut,
  charset: string,
  keep: KeptOldRows,
): Promise<void> {
  const name = identifier(table.table);
  for (const list of table.where) keep.take(Buffer.from(`DELETE FROM ${name} WHERE ${list};\n`, 'latin1'));
  const writer = new InsertWriter(chunk => keep.take(Buffer.from(chunk)));
  const { columns } = table;
  writer.begin(
    `INSERT INTO ${name} (${columns.map(column => identifier(column.name)).join()}) VALUES`,
    writtenAs(columns, charset),
  );
  for (const list of table.where)
    await session.each(
      sql`SELECT ${joined(columns.map(selectedAs))} FROM ${name} WHERE ${list} FOR UPDATE`,
      cells => writer.row(cells),
    );
  writer.finish();
}

function writtenAs(columns: readonly Column[], charset: string) {
  return columns.map(column => ({ writing: writingOf(column), introducer: introducerOf(column, charset) }));
}

/** The statements of a writer, which ends each with a line that nothing else begins. */
function statementsIn(chunk: Buffer): EncodedSql[] {
  return chunk
    .toString('latin1')
    .split(/;\n(?=INSERT INTO |$)/)
    .filter(text => text.trim() !== '')
    .map(encodedSql);
}

/** @throws DamageError where a row that was put is not as it was sent */
async function verify(session: DatabaseSession, table: RowsToPut): Promise<void> {
  const { columns, proof } = table;
  if (!proof) return;
  const digest = new ContentDigest(columns.map(kindOf));
  let found = 0;
  for (const list of table.where)
    await session.each(
      sql`SELECT ${joined(columns.map(selectedAs))} FROM ${identifier(table.table)} WHERE ${list}`,
      cells => {
        if (proof.digests.has(digest.digestOf(cells).toString('hex'))) found++;
      },
    );
  if (found === proof.rows) return;
  await session.run(sql`ROLLBACK`);
  throw new DamageError({
    doing: `Changing rows of the table ${table.table}`,
    cause: `read back, ${proof.rows - found} of ${proof.rows} rows are not as they were sent`,
    remedy: 'Nothing was changed. Deliver with --again, which loads whole tables',
  });
}
