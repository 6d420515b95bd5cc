import { ContentDigest, kindOf, type TableContent } from '../../../core/database/content-digest.js';
import { type Column, selectedAs } from '../../../core/sql/column.js';
import { identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { DatabaseSession } from './session.js';

/** The content of a table's rows, read back from its server. */
export async function contentOf(
  session: DatabaseSession,
  table: string,
  columns: readonly Column[],
): Promise<TableContent> {
  const digest = new ContentDigest(columns.map(kindOf));
  const list = joined(columns.map(selectedAs));
  await session.each(sql`SELECT ${list} FROM ${identifier(table)}`, cells => digest.add(cells));
  return digest.content();
}
