import { type Column, quoteText } from '../../../core/sql/column.js';
import type { DatabaseSession } from './session.js';

/** A table or view, as the server's catalogue has it. */
export interface SeenTable {
  readonly name: string;
  readonly kind: 'table' | 'view';
  /** Empty for a view, and for a table that the server cannot open. */
  readonly engine: string;
  /** As the server estimates them. */
  readonly rows: number;
  /** Bytes of rows and indexes. */
  readonly bytes: number;
  readonly autoIncrement: string | undefined;
  /** What the server says where it cannot open the table. */
  readonly trouble: string | undefined;
}

export interface SeenDatabase {
  readonly name: string;
  readonly tables: readonly SeenTable[];
}

/** Databases of the server's own. */
const ownOfServer = /^(?:information_schema|performance_schema|mysql|sys)$/i;

/** All databases that the account sees, with their tables. */
export async function databasesSeen(session: DatabaseSession): Promise<SeenDatabase[]> {
  const names = (await session.rows('SHOW DATABASES')).map(([name]) => name!);
  const databases: SeenDatabase[] = [];
  for (const name of names.filter(one => !ownOfServer.test(one)))
    databases.push({ name, tables: await tablesOf(session, quoteText(name)) });
  return databases;
}

/** The tables and views of a database. @param database an SQL expression that gives its name */
export async function tablesOf(session: DatabaseSession, database = 'DATABASE()'): Promise<SeenTable[]> {
  const rows = await session.rows(
    `SELECT TABLE_NAME, TABLE_TYPE, ENGINE, TABLE_ROWS, DATA_LENGTH + INDEX_LENGTH, AUTO_INCREMENT, TABLE_COMMENT
     FROM information_schema.TABLES WHERE TABLE_SCHEMA = ${bytes(database)} ORDER BY TABLE_NAME`,
  );
  return rows.map(([name, type, engine, count, size, autoIncrement, comment]) => ({
    name: name!,
    kind: /VIEW/.test(type ?? '') ? 'view' : 'table',
    engine: engine ?? '',
    rows: Number(count ?? 0),
    bytes: Number(size ?? 0),
    autoIncrement: autoIncrement ?? undefined,
    trouble: engine === null && !/VIEW/.test(type ?? '') ? (comment ?? 'it cannot be opened') : undefined,
  }));
}

/** The columns of every table of the session's database, in their order. */
export async function columnsOf(session: DatabaseSession): Promise<Map<string, Column[]>> {
  const rows = await session.rows(
    `SELECT TABLE_NAME, COLUMN_NAME, DATA_TYPE, CHARACTER_SET_NAME, EXTRA
     FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() ORDER BY TABLE_NAME, ORDINAL_POSITION`,
  );
  const tables = new Map<string, Column[]>();
  for (const [table, name, type, charset, extra] of rows) {
    const columns = tables.get(table!) ?? [];
    tables.set(table!, columns);
    columns.push({
      name: name!,
      type: type!.toLowerCase(),
      charset: charset ?? undefined,
      generated: /\b(?:VIRTUAL|STORED|PERSISTENT)\b/i.test(extra ?? ''),
    });
  }
  return tables;
}

/** Text as the session sends it: statements are bytes. */
export function bytes(text: string): string {
  return Buffer.from(text, 'utf8').toString('latin1');
}
