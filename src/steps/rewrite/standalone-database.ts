import { type ByteString, bytesOf } from '../../core/bytes.js';
import { type DatabasePlace, shownDatabase } from '../../core/database/place.js';
import { type CellChange, canHoldAddress } from '../../core/database/row-update.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { countLeftInValue, rewriteSingleValue } from '../../core/rewrite/carriers/single-value.js';
import { summarise } from '../../core/rewrite/report/summary.js';
import { Tally } from '../../core/rewrite/report/tally.js';
import type { Rules } from '../../core/rewrite/terms/rules.js';
import { showable } from '../../core/text/display.js';
import { counted } from '../../core/text/numbers.js';
import { KeptRows } from '../../ends/database/live/kept-rows.js';
import { type LiveRowChange, LiveRows } from '../../ends/database/live/live-rows.js';
import type { SeenLiveTable } from '../../ends/database/live/live-tables.js';
import type { EventSink } from '../move/events.js';
import { refuseDumpOptions, type StandaloneDone, type StandalonePlan } from './standalone-options.js';

/** Bytes of rows that are read at once, by the server's own estimate, and how many rows at most. */
const pageBytes = 8 * 1024 * 1024;
const mostRows = 2000;

/** Asks whether tables without a key may be changed too. */
type AskKeyless = (tables: readonly string[]) => Promise<void>;

/** A live database to rewrite. */
interface DatabaseJob {
  readonly place: DatabasePlace;
  /** Where what was changed is kept. */
  readonly keepFile: string;
  readonly askKeyless: AskKeyless;
}

/**
 * Rewrites the rows of a live database, table by table in the order of their keys. A row is changed only where it is
 * still what was read; what it was is written to a file first, as statements that put it back.
 * @throws UsageError when the wishes do not fit a database
 */
export async function rewriteDatabase(
  plan: StandalonePlan,
  { place, keepFile, askKeyless }: DatabaseJob,
  events: EventSink,
  signal: AbortSignal,
): Promise<StandaloneDone> {
  const { wish } = plan;
  refuseDumpOptions(wish, 'a live database', 'rows are rewritten in place');
  return LiveRows.use({ place, through: undefined }, async rows => {
    const tables = (await rows.tables()).filter(({ columns }) => columns.some(canHoldAddress));
    const keyless = tables.filter(({ key }) => key.length === 0).map(({ name }) => name);
    if (keyless.length > 0 && !wish.dryRun) await askKeyless(keyless);
    const kept = wish.dryRun ? undefined : new KeptRows(keepFile, shownDatabase(place));
    try {
      const rewriting = new LiveRewriting(plan, rows, kept);
      await rewriting.all(tables, events, signal);
      const summary = summarise(plan.rules.pairs, rewriting.tally.all(), rewriting.counts.values());
      const restore = `able-porter undo ${keepFile} --database mysql://${place.user}@…/${place.name}`;
      const wrote =
        rewriting.changed === 0
          ? `no row of ${shownDatabase(place)}`
          : `${counted(rewriting.changed, 'row')} of ${shownDatabase(place)}; put them back with: ${restore}`;
      return { summary, findings: [...rewriting.findings(), ...keylessFinding(keyless)], wrote };
    } finally {
      await kept?.close();
    }
  });
}

/** What tables are rewritten with, and what came of it. */
class LiveRewriting {
  readonly tally = new Tally();
  readonly counts = new Map<string, { rows: number }>();
  changed = 0;
  /** Rows that somebody else changed meanwhile, and rows that the server refuses, by table. */
  private readonly meanwhile = new Map<string, number>();
  private readonly refused = new Map<string, { rows: number; why: string }>();
  private readonly plan: StandalonePlan;
  private readonly hostRules: Rules;
  private readonly rows: LiveRows;
  private readonly kept: KeptRows | undefined;

  constructor(plan: StandalonePlan, rows: LiveRows, kept: KeptRows | undefined) {
    this.plan = plan;
    this.hostRules = { ...plan.rules, bareHosts: true };
    this.rows = rows;
    this.kept = kept;
  }

  async all(tables: readonly SeenLiveTable[], events: EventSink, signal: AbortSignal): Promise<void> {
    const all = tables.reduce((sum, { seen }) => sum + seen.rows, 0);
    let before = 0;
    for (const table of tables) {
      await this.table(table, signal, rows => {
        const done = Math.min(all, before + rows);
        events({ type: 'progress', what: table.name, done, of: all, unit: 'rows' });
      });
      before += table.seen.rows;
    }
  }

  private async table(
    table: SeenLiveTable,
    signal: AbortSignal,
    progress: (rows: number) => void,
  ): Promise<void> {
    const count = { rows: 0 };
    this.counts.set(table.name, count);
    const { seen } = table;
    const rowBytes = Math.max(1, seen.bytes / Math.max(1, seen.rows));
    const most = Math.max(1, Math.min(mostRows, Math.floor(pageBytes / rowBytes)));
    let last: readonly ByteString[] | undefined;
    do {
      signal.throwIfAborted();
      last = await this.page(table, last, count, most);
      progress(count.rows);
    } while (last);
  }

  /**
   * Reads some rows and changes those that hold an old address, in one transaction.
   * @returns the key of the last row, where more may follow
   */
  private async page(
    table: SeenLiveTable,
    after: readonly ByteString[] | undefined,
    count: { rows: number },
    most: number,
  ): Promise<readonly ByteString[] | undefined> {
    const changes = new Map<string, LiveRowChange>();
    const last = await this.rows.page(table, after, most, (cells, key) => {
      count.rows++;
      const changed = this.rewritten(table, cells, count.rows, key);
      if (changed.length === 0) return;
      if (table.key.length > 0) changes.set(key.join('\0'), { key, cells: changed });
      // Without a key every row with the same value is the same row.
      else for (const one of changed) changes.set(`${one.column.name}\0${one.before}`, { key, cells: [one] });
    });
    if (this.kept && changes.size > 0) await this.change(table, [...changes.values()], this.kept);
    else this.changed += changes.size;
    return last;
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
        countLeftInValue(before, rules, place, why, left);
        continue;
      }
      const after = rewriteSingleValue(before, rules, place, left);
      if (after !== undefined) changes.push({ column, before, after });
    }
    return changes;
  }

  private async change(
    table: SeenLiveTable,
    changes: readonly LiveRowChange[],
    kept: KeptRows,
  ): Promise<void> {
    const { changed, meanwhile, refused } = await this.rows.change(table, changes, kept);
    this.changed += changed;
    if (meanwhile > 0) this.meanwhile.set(table.name, (this.meanwhile.get(table.name) ?? 0) + meanwhile);
    if (refused.rows === 0) return;
    const { rows = 0, why = showable(refused.why) } = this.refused.get(table.name) ?? {};
    this.refused.set(table.name, { rows: rows + refused.rows, why });
  }

  findings(): Finding[] {
    const findings: Finding[] = [];
    for (const [table, { rows, why }] of this.refused) {
      findings.push(
        finding({
          level: 'warn',
          code: 'row-refused',
          place: table,
          what: `${rows} ${rows === 1 ? 'row was' : 'rows were'} left as before: ${why}`,
          remedy: 'Make the column longer, or change the row by hand, then rewrite again',
        }),
      );
    }
    for (const [table, rows] of this.meanwhile) {
      findings.push(
        finding({
          level: 'warn',
          code: 'row-changed-meanwhile',
          place: table,
          what: `${rows} ${rows === 1 ? 'row was' : 'rows were'} changed by somebody else between reading and writing, and left`,
          remedy: 'Put the site into maintenance and rewrite again; what is done is not done twice',
        }),
      );
    }
    return findings;
  }
}

function keylessFinding(tables: readonly string[]): Finding[] {
  if (tables.length === 0) return [];
  return [
    finding({
      level: 'note',
      code: 'table-without-key',
      place: tables.join(', '),
      what: `${tables.length === 1 ? 'This table has' : 'These tables have'} no key that identifies a row; rows were found by their old value`,
      remedy: 'Undo restores a value wherever the new one is, even where it was before',
    }),
  ];
}
