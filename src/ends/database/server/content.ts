import { ContentDigest, kindOf } from '../../../core/database/content/content-digest.js';
import { type Column, selectedAs } from '../../../core/sql/column.js';
import { identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { PrintedContent } from '../database-end.js';
import type { DatabaseSession } from './session/session.js';

/** The content of a table's rows, read back from its server. */
export async function contentOf(
  session: DatabaseSession,
  table: string,
  columns: readonly Column[],
  key?: readonly string[],
): Promise<PrintedContent> {
  const places = key?.map(name => columns.findIndex(column => column.name === name));
  const digest = new ContentDigest(columns.map(kindOf), places?.includes(-1) ? [] : places);
  await eachRowOf(session, table, columns, cells => digest.add(cells));
  return { ...digest.content(), prints: digest.prints };
}

/** Gives every row of a table. The cells are only good until the next. */
export async function eachRowOf(
  session: DatabaseSession,
  table: string,
  columns: readonly Column[],
  take: (cells: readonly (Buffer | null)[]) => void,
): Promise<void> {
  const selected = columns.map(selectedAs);
  await session.each(sql`SELECT ${joined(selected)} FROM ${identifier(table)}`, take, { table, selected });
}
