import { ContentDigest, kindOf } from '../../../core/database/content/content-digest.js';
import { InsertWriter } from '../../../core/database/insert-writer.js';
import type { RowsToPut } from '../../../core/database/row-changes.js';
import { DamageError } from '../../../core/errors.js';
import { type Column, introducerOf, selectedAs, writingOf } from '../../../core/sql/column.js';
import { type EncodedSql, encodedSql, identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { KeptOldRows } from '../database-end.js';
import { whileLocked } from './locks.js';
import type { DatabaseSession } from './session/session.js';

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
  await whileLocked(session, async () => {
    const began = session.runAll(
      sql`SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO', foreign_key_checks = 0`,
      sql`START TRANSACTION`,
    );
    await Promise.all([began, keep.begin()]);
    for (const table of tables) {
      const { wrong } = await changeTable(session, table, charset, keep);
      if (!wrong) continue;
      await session.run(sql`ROLLBACK`);
      throw wrong;
    }
    await session.run(sql`UPDATE ${identifier(note)} SET done = -1`);
    await keep.finish();
    await session.run(sql`COMMIT`);
  });
}

/** Writes down what the rows were, changes them and reads them back, all in one go where there are not too many. */
async function changeTable(
  session: DatabaseSession,
  table: RowsToPut,
  charset: string,
  keep: KeptOldRows,
): Promise<{ wrong: DamageError | undefined }> {
  const name = identifier(table.table);
  const { columns, where, proof } = table;
  for (const list of where) keep.take(Buffer.from(`DELETE FROM ${name} WHERE ${list};\n`, 'latin1'));
  const writer = new InsertWriter(chunk => keep.take(Buffer.from(chunk)));
  writer.begin(
    `INSERT INTO ${name} (${columns.map(column => identifier(column.name)).join()}) VALUES`,
    writtenAs(columns, charset),
  );
  const selected = sql`SELECT ${joined(columns.map(selectedAs))} FROM ${name}`;
  const digest = new ContentDigest(columns.map(kindOf));
  let found = 0;
  const seen = (cells: (Buffer | null)[]) => {
    if (proof?.digests.has(digest.digestOf(cells).toString('hex'))) found++;
  };
  const { failed } = await session.together([
    ...where.map(list => ({
      sql: sql`${selected} WHERE ${list} FOR UPDATE`,
      take: (cells: (Buffer | null)[]) => writer.row(cells),
    })),
    ...where.map(list => ({ sql: sql`DELETE FROM ${name} WHERE ${list}` })),
    ...table.inserts.flatMap(statementsIn).map(statement => ({ sql: statement })),
    ...(proof ? where : []).map(list => ({ sql: sql`${selected} WHERE ${list}`, take: seen })),
  ]);
  if (failed) throw failed.error;
  writer.finish();
  return { wrong: proof && found !== proof.rows ? notAsSent(table, proof.rows - found) : undefined };
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

function notAsSent({ table, proof }: RowsToPut, missing: number): DamageError {
  return new DamageError({
    doing: `Changing rows of the table ${table}`,
    cause: `read back, ${missing} of ${proof?.rows} rows are not as they were sent`,
    remedy: 'Nothing was changed. Deliver with --again, which loads whole tables',
  });
}
