import { type ByteString, bytesOf } from '../../core/bytes.js';
import { type DatabasePlace, shownDatabase } from '../../core/database/place.js';
import {
  type CellChange,
  canHoldAddress,
  pageSql,
  putBackSql,
  selectSql,
  updateSql,
} from '../../core/database/row-update.js';
import { showable } from '../../core/display.js';
import type { Finding } from '../../core/findings.js';
import { countLeftWhole, rewrittenWhole } from '../../core/rewrite/carriers/whole.js';
import { summarise } from '../../core/rewrite/report/summary.js';
import { Tally } from '../../core/rewrite/report/tally.js';
import type { Rules } from '../../core/rewrite/terms/rules.js';
import { KeptRows } from '../../ends/database/server/kept-rows.js';
import { liveTables, type SeenLiveTable } from '../../ends/database/server/live-tables.js';
import {
  type DatabaseSession,
  isPassing,
  type ServerSaid,
  withDatabase,
} from '../../ends/database/server/session.js';
import type { EventSink } from '../move/events.js';
import { type OwnDone, type OwnPlan, refuseDumpOptions } from './standalone-options.js';

/** Bytes of rows that are read at once, by the server's own estimate, and how many rows at most. */
const pageBytes = 8 * 1024 * 1024;
const mostRows = 2000;

/** How often rows are tried that meet deadlocks or locks. */
const tries = 5;

/** Asks whether tables without a key may be changed too. */
export type AskKeyless = (tables: readonly string[]) => Promise<void>;

/**
 * Rewrites the rows of a live database, table by table in the order of their keys. A row is changed only where it is
 * still what was read; what it was is written to a file first, as statements that put it back.
 * @param keepFile where what was changed is kept
 * @throws UsageError when the wishes do not fit a database
 */
export async function rewriteDatabase(
  plan: OwnPlan,
  place: DatabasePlace,
  keepFile: string,
  askKeyless: AskKeyless,
  events: EventSink,
  signal: AbortSignal,
): Promise<OwnDone> {
  const { wish } = plan;
  refuseDumpOptions(wish, 'a live database', 'rows are rewritten where they stand');
  return withDatabase({ place, through: undefined }, async session => {
    // Strict, so that a value that does not fit is refused and not cut.
    await session.run("SET SESSION sql_mode = 'STRICT_ALL_TABLES'");
    await session.run('SET NAMES utf8mb4');
    const tables = (await liveTables(session)).filter(({ columns }) => columns.some(canHoldAddress));
    const keyless = tables.filter(({ key }) => key.length === 0).map(({ name }) => name);
    if (keyless.length > 0 && !wish.dryRun) await askKeyless(keyless);
    const kept = wish.dryRun ? undefined : new KeptRows(keepFile, shownDatabase(place));
    try {
      const rewriting = new LiveRewriting(plan, session, kept);
      let done = 0;
      const all = tables.reduce((sum, { seen }) => sum + seen.rows, 0);
      for (const table of tables) {
        await rewriting.table(table, signal, rows =>
          events({
            type: 'progress',
            what: table.name,
            done: Math.min(all, done + rows),
            of: all,
            unit: 'rows',
          }),
        );
        done += table.seen.rows;
      }
      const summary = summarise(plan.rules.pairs, rewriting.tally.all(), rewriting.counts.values());
      const wrote =
        rewriting.changed === 0
          ? `no row of ${shownDatabase(place)}`
          : `${rewriting.changed} ${rewriting.changed === 1 ? 'row' : 'rows'} of ${shownDatabase(place)}; put them back with: able-porter undo ${keepFile} --database mysql://${place.user}@…/${place.name}`;
      return { summary, findings: [...rewriting.findings(), ...keylessFinding(keyless)], wrote };
    } finally {
      await kept?.close();
    }
  });
}

/** What a table is rewritten with, and what came of it. */
class LiveRewriting {
  readonly tally = new Tally();
  readonly counts = new Map<string, { rows: number }>();
  changed = 0;
  /** Rows that somebody else changed meanwhile, and rows that the server refuses, by table. */
  private readonly meanwhile = new Map<string, number>();
  private readonly refused = new Map<string, { rows: number; why: string }>();
  private readonly plan: OwnPlan;
  private readonly hostRules: Rules;
  private readonly session: DatabaseSession;
  private readonly kept: KeptRows | undefined;

  constructor(plan: OwnPlan, session: DatabaseSession, kept: KeptRows | undefined) {
    this.plan = plan;
    this.hostRules = { ...plan.rules, bareHosts: true };
    this.session = session;
    this.kept = kept;
  }

  async table(table: SeenLiveTable, signal: AbortSignal, progress: (rows: number) => void): Promise<void> {
    const count = { rows: 0 };
    this.counts.set(table.name, count);
    const { key, seen } = table;
    if (key.length === 0) {
      await this.page(table, selectSql(table), count);
      return;
    }
    const most = Math.max(
      1,
      Math.min(mostRows, Math.floor(pageBytes / Math.max(1, seen.bytes / Math.max(1, seen.rows)))),
    );
    let last: readonly ByteString[] | undefined;
    do {
      signal.throwIfAborted();
      last = await this.page(table, pageSql(table, last, most), count, most);
      progress(count.rows);
    } while (last);
  }

  /**
   * Reads some rows and changes those that hold an old address, in one transaction.
   * @returns the key of the last row, where more may follow
   */
  private async page(
    table: SeenLiveTable,
    sql: ByteString,
    count: { rows: number },
    most = Number.POSITIVE_INFINITY,
  ): Promise<readonly ByteString[] | undefined> {
    const changes = new Map<string, Change>();
    let last: readonly ByteString[] = [];
    let rows = 0;
    await this.session.each(sql, cells => {
      rows++;
      count.rows++;
      last = table.key.map(i => bytesOf(cells[i]!));
      const changed = this.rewritten(table, cells, count.rows, last);
      if (changed.length === 0) return;
      if (table.key.length > 0) changes.set(last.join('\0'), { key: last, cells: changed });
      // Without a key every row with the same value is the same row.
      else
        for (const one of changed)
          changes.set(`${one.column.name}\0${one.before}`, { key: last, cells: [one] });
    });
    if (this.kept && changes.size > 0) await this.change(table, [...changes.values()], this.kept);
    else this.changed += changes.size;
    return rows === most ? last : undefined;
  }

  private rewritten(
    table: SeenLiveTable,
    cells: readonly (Buffer | null)[],
    number: number,
    key: readonly ByteString[],
  ): CellChange[] {
    const { scope, hosts, left } = this.plan;
    if (left) left.row = () => `row ${number}${key.length > 0 ? ` (${showable(key.join(', '))})` : ''}`;
    const changes: CellChange[] = [];
    for (const [i, column] of table.columns.entries()) {
      const cell = cells[i];
      if (!cell || !canHoldAddress(column)) continue;
      const place = this.tally.at(table.name, column.name);
      const before = bytesOf(cell);
      const name = `${table.name}.${column.name}`;
      const rules = hosts.matches(name) ? this.hostRules : this.plan.rules;
      const why = scope.leaves(name);
      if (why) {
        countLeftWhole(before, rules, place, why, left);
        continue;
      }
      const after = rewrittenWhole(before, rules, place, left);
      if (after !== undefined) changes.push({ column, before, after });
    }
    return changes;
  }

  private async change(table: SeenLiveTable, changes: readonly Change[], kept: KeptRows): Promise<void> {
    await kept.keep(changes.map(({ key, cells }) => putBackSql(table, key, cells)));
    for (let attempt = 1; ; attempt++) {
      try {
        const { changed, meanwhile, refused } = await this.tryChange(table, changes);
        this.changed += changed;
        if (meanwhile > 0) this.meanwhile.set(table.name, (this.meanwhile.get(table.name) ?? 0) + meanwhile);
        if (refused.rows > 0) {
          const { rows = 0, why = refused.why } = this.refused.get(table.name) ?? {};
          this.refused.set(table.name, { rows: rows + refused.rows, why });
        }
        return;
      } catch (error) {
        // The visitors of the site hold a lock just now.
        if (!isPassing(error) || attempt === tries) throw error;
        await this.session.run('ROLLBACK');
        await new Promise(resolve => setTimeout(resolve, 200 * attempt));
      }
    }
  }

  /** Changes rows in one transaction. */
  private async tryChange(
    table: SeenLiveTable,
    changes: readonly Change[],
  ): Promise<{ changed: number; meanwhile: number; refused: { rows: number; why: string } }> {
    let changed = 0;
    let meanwhile = 0;
    const refused = { rows: 0, why: '' };
    await this.session.run('START TRANSACTION');
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
        refused.why ||= showable(sqlMessage ?? message);
      }
    }
    await this.session.run('COMMIT');
    return { changed, meanwhile, refused };
  }

  findings(): Finding[] {
    const findings: Finding[] = [];
    for (const [table, { rows, why }] of this.refused) {
      findings.push({
        level: 'warn',
        code: 'row-refused',
        place: table,
        what: `${rows} ${rows === 1 ? 'row was' : 'rows were'} left as before: ${why}`,
        remedy: 'Make the column longer, or change the row by hand, then rewrite again',
      });
    }
    for (const [table, rows] of this.meanwhile) {
      findings.push({
        level: 'warn',
        code: 'row-changed-meanwhile',
        place: table,
        what: `${rows} ${rows === 1 ? 'row was' : 'rows were'} changed by somebody else between reading and writing, and left`,
        remedy: 'Put the site into maintenance and rewrite again; what is done is not done twice',
      });
    }
    return findings;
  }
}

/** Cells of one row to be changed; without a key, one value wherever it stands. */
interface Change {
  readonly key: readonly ByteString[];
  readonly cells: readonly CellChange[];
}

function keylessFinding(tables: readonly string[]): Finding[] {
  if (tables.length === 0) return [];
  return [
    {
      level: 'note',
      code: 'table-without-key',
      place: tables.join(', '),
      what: `${tables.length === 1 ? 'This table has' : 'These tables have'} no key that tells one row from another; rows were found by their old value`,
      remedy: 'undo puts a value back wherever the new one stands, also where it had stood before',
    },
  ];
}
