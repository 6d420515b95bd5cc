import { type ByteString, bytesOf } from '../../../core/bytes.js';
import {
  type CellChange,
  type LiveTable,
  pageSql,
  restoreSql,
  selectSql,
  updateSql,
} from '../../../core/database/row-update.js';
import { encodedSql, sql } from '../../../core/sql/encoded-sql.js';
import { whileLocked } from '../server/locks.js';
import type { ServerSaid } from '../server/session/errors.js';
import type { DatabaseRoute, DatabaseSession } from '../server/session/session.js';
import { withDatabase } from '../server/session/with-database.js';
import type { KeptRows } from './kept-rows.js';
import { liveTables, type SeenLiveTable } from './live-tables.js';

/** Cells of one row to be changed; without a key, one value wherever it is. */
export interface LiveRowChange {
  readonly key: readonly ByteString[];
  readonly cells: readonly CellChange[];
}

/** The result of changing rows. */
export interface ChangeCount {
  readonly changed: number;
  /** Rows that somebody else changed meanwhile; they were left. */
  readonly meanwhile: number;
  /** Rows that the server refuses, and why the first of them was. */
  readonly refused: { readonly rows: number; readonly why: string };
}

/** The rows of a database in use, read in the order of their keys and changed where they are. */
export class LiveRows {
  private readonly session: DatabaseSession;

  private constructor(session: DatabaseSession) {
    this.session = session;
  }

  /** Opens a database for this, works with it, and closes it. */
  static use<T>(route: DatabaseRoute, work: (rows: LiveRows) => Promise<T>): Promise<T> {
    return withDatabase(route, async session => {
      // Strict, so that a value that does not fit is refused and not cut.
      await session.run(sql`SET SESSION sql_mode = 'STRICT_ALL_TABLES'`);
      await session.run(sql`SET NAMES utf8mb4`);
      return work(new LiveRows(session));
    });
  }

  tables(): Promise<SeenLiveTable[]> {
    return liveTables(this.session);
  }

  /**
   * Reads some rows after one that was read before; all rows of a table without a key.
   * @param after the key of the last row that was read
   * @param take is given each row's cells, only good until the next, and its key
   * @returns the key of the last row, where more may follow
   */
  async page(
    table: LiveTable,
    after: readonly ByteString[] | undefined,
    most: number,
    take: (cells: readonly (Buffer | null)[], key: readonly ByteString[]) => void,
  ): Promise<readonly ByteString[] | undefined> {
    let last: readonly ByteString[] = [];
    let rows = 0;
    const statement = table.key.length === 0 ? selectSql(table) : pageSql(table, after, most);
    await this.session.each(statement, cells => {
      rows++;
      last = table.key.map(i => bytesOf(cells[i] ?? Buffer.alloc(0)));
      take(cells, last);
    });
    return table.key.length > 0 && rows === most ? last : undefined;
  }

  /** Changes rows in one transaction, where they are still what was read. What they were is in `kept` before. */
  async change(table: LiveTable, changes: readonly LiveRowChange[], kept: KeptRows): Promise<ChangeCount> {
    await kept.keep(changes.map(({ key, cells }) => restoreSql(table, key, cells)));
    return whileLocked(this.session, () => this.tryChange(table, changes));
  }

  /**
   * Runs statements that a rewriting kept, in one transaction.
   * @returns for each of those that change rows, whether it found its row
   */
  async restore(statements: readonly ByteString[]): Promise<boolean[]> {
    const found: boolean[] = [];
    await this.session.run(sql`START TRANSACTION`);
    for (const statement of statements) {
      const { affected } = await this.session.run(encodedSql(statement));
      if (/^update\b/i.test(statement)) found.push(affected > 0);
    }
    await this.session.run(sql`COMMIT`);
    return found;
  }

  private async tryChange(table: LiveTable, changes: readonly LiveRowChange[]): Promise<ChangeCount> {
    let changed = 0;
    let meanwhile = 0;
    const refused = { rows: 0, why: '' };
    await this.session.run(sql`START TRANSACTION`);
    for (const { key, cells } of changes) {
      try {
        const { affected } = await this.session.run(updateSql(table, key, cells));
        if (affected > 0) changed += table.key.length > 0 ? 1 : affected;
        else meanwhile++;
      } catch (error) {
        // Too long for its column, or the same as another row's key.
        const { errno, sqlMessage, message } = error as ServerSaid;
        if (errno !== 1406 && errno !== 1062) throw error;
        refused.rows++;
        refused.why ||= sqlMessage ?? message;
      }
    }
    await this.session.run(sql`COMMIT`);
    return { changed, meanwhile, refused };
  }
}
