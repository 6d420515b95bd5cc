import { ContentDigest, kindOf, type TableContent } from '../../../core/database/content-digest.js';
import { type Column, quoteName, selectedAs } from '../../../core/sql/column.js';
import { bytes } from './catalog.js';
import type { DatabaseSession } from './session.js';

/** What the rows of a table come to, read back from its server. */
export async function contentOf(
  session: DatabaseSession,
  table: string,
  columns: readonly Column[],
): Promise<TableContent> {
  const digest = new ContentDigest(columns.map(kindOf));
  const list = columns.map(column => bytes(selectedAs(column))).join();
  await session.each(`SELECT ${list} FROM ${bytes(quoteName(table))}`, cells => digest.add(cells));
  return digest.content();
}
