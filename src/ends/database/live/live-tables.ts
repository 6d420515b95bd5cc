import type { LiveTable } from '../../../core/database/row-update.js';
import { writingOf } from '../../../core/sql/column.js';
import { sql } from '../../../core/sql/encoded-sql.js';
import type { SeenTable } from '../database-end.js';
import { columnsOf, keysOf, tablesOf } from '../server/catalog.js';
import type { DatabaseSession } from '../server/session/session.js';

/** A table with what the server says of its size. */
export interface SeenLiveTable extends LiveTable {
  readonly seen: SeenTable;
}

/** The tables of the session's database, with the key by which a row of each is distinguished from all others. */
export async function liveTables(session: DatabaseSession): Promise<SeenLiveTable[]> {
  const columns = await columnsOf(session);
  const keys = await keysOf(session);
  const touched = new Set(
    (
      await session.rows(
        sql`SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND EXTRA LIKE '%on update%'`,
      )
    ).map(names => names.join('\0')),
  );
  const seen = (await tablesOf(session)).filter(({ kind, trouble }) => kind === 'table' && !trouble);
  return seen.map(table => {
    const all = (columns.get(table.name) ?? []).map(column => ({
      ...column,
      touched: touched.has(`${table.name}\0${column.name}`),
    }));
    const key = (keys.get(table.name) ?? []).map(name => all.findIndex(column => column.name === name));
    // What a FLOAT shows is not what it holds.
    const exact = key.every(
      i => i >= 0 && !/^(?:float|double|real)$/.test(all[i]!.type) && writingOf(all[i]!) !== 'bits',
    );
    return { name: table.name, columns: all, key: exact ? key : [], seen: table };
  });
}
