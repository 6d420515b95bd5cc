import type { Column } from '../../../core/sql/column.js';
import { literal, sql } from '../../../core/sql/encoded-sql.js';
import type { SeenDatabase, SeenTable } from '../database-end.js';
import type { DatabaseSession } from './session/session.js';

/** What gives rows. */
type Asked = Pick<DatabaseSession, 'rows'>;

/** Databases of the server's own. */
const ownOfServer = /^(?:information_schema|performance_schema|mysql|sys)$/i;

/** All databases that the account sees, with their tables. */
export async function databasesSeen(session: DatabaseSession): Promise<SeenDatabase[]> {
  const names = (await session.rows(sql`SHOW DATABASES`)).map(([name]) => name!);
  return Promise.all(
    names
      .filter(one => !ownOfServer.test(one))
      .map(async name => ({ name, tables: await tablesOf(session, literal(name)) })),
  );
}

/** The tables and views of a database. @param database its name as a literal */
export async function tablesOf(session: Asked, database = sql`DATABASE()`): Promise<SeenTable[]> {
  const rows = await session.rows(
    sql`SELECT TABLE_NAME, TABLE_TYPE, ENGINE, TABLE_ROWS, DATA_LENGTH + INDEX_LENGTH, AUTO_INCREMENT, TABLE_COMMENT
     FROM information_schema.TABLES WHERE TABLE_SCHEMA = ${database} ORDER BY TABLE_NAME`,
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
export async function columnsOf(session: Asked): Promise<Map<string, Column[]>> {
  const rows = await session.rows(
    sql`SELECT TABLE_NAME, COLUMN_NAME, DATA_TYPE, CHARACTER_SET_NAME, EXTRA
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

/** The triggers of the session's database, in the order in which they act. */
export async function triggersOf(session: DatabaseSession): Promise<{ name: string; table: string }[]> {
  const rows = await session.rows(
    sql`SELECT TRIGGER_NAME, EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE() ORDER BY ACTION_ORDER`,
  );
  return rows.map(([name, table]) => ({ name: name ?? '', table: table ?? '' }));
}

/** The columns of each table's primary key, or of a unique key without NULL in it. */
export async function keysOf(session: Asked): Promise<Map<string, string[]>> {
  const rows = await session.rows(
    sql`SELECT TABLE_NAME, INDEX_NAME, COLUMN_NAME, NULLABLE, SUB_PART FROM information_schema.STATISTICS
     WHERE TABLE_SCHEMA = DATABASE() AND NON_UNIQUE = 0 ORDER BY TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX`,
  );
  const indexes = new Map<string, { table: string; columns: string[]; sure: boolean }>();
  for (const [table, index, column, nullable, part] of rows) {
    const key = `${table}\0${index}`;
    const one = indexes.get(key) ?? { table: table!, columns: [], sure: true };
    indexes.set(key, one);
    one.columns.push(column!);
    if (nullable === 'YES' || part !== null) one.sure = false;
  }
  const keys = new Map<string, string[]>();
  for (const { table, columns, sure } of indexes.values())
    if (sure && !keys.has(table)) keys.set(table, columns);
  return keys;
}
