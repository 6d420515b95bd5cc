import pMap from 'p-map';
import { bytesOf, textOf } from '../../../core/bytes.js';
import { ContentDigest, kindOf } from '../../../core/database/content/content-digest.js';
import { SelfWrittenData } from '../../../core/site/data/self-written.js';
import type { Family } from '../../../core/site/families/family.js';
import type { Column } from '../../../core/sql/column.js';
import { showable } from '../../../core/text/display.js';
import type { DatabaseConnection, PrintedContent } from '../../../ends/database/database-end.js';
import type { StepRun } from '../../move/step.js';
import type { DeliveredState, DeliveredTable, StateFolder } from './delivered-state.js';
import { tablesAtOnce } from './verify.js';

/** What the new site has written into one table since it was delivered. */
interface WrittenTable {
  readonly table: string;
  /** Rows that are new, changed or gone. */
  readonly rows: number;
  /** Keys of some of them. */
  readonly keys: readonly string[];
  /** The latest time that one of them names, as the server writes it. */
  readonly latest: string | undefined;
}

/** What the new site has written since it was delivered. */
export interface WrittenSince {
  /** When it was delivered, ISO 8601. */
  readonly at: string;
  /** What somebody made. */
  readonly tables: readonly WrittenTable[];
  /** Tables that differ in any way, also in what the site writes by itself, as they are now. */
  readonly changed: ReadonlyMap<string, PrintedContent>;
}

const mostKeys = 5;

/**
 * Compares what is in the database with what a delivery left there. Of tables that the server's checksum shows to be the same
 * no row is read.
 */
export async function writtenSince(
  run: StepRun,
  connection: DatabaseConnection,
  {
    family,
    prefix,
    state,
    folder,
  }: {
    readonly family: Family;
    readonly prefix: string;
    readonly state: DeliveredState;
    readonly folder: StateFolder;
  },
): Promise<WrittenSince> {
  const [tablesThere, columns] = await Promise.all([
    connection.tables(),
    connection.columns(),
    // As it was read back when it was delivered.
    connection.speakAs(state.speaks),
  ]);
  const there = new Set(tablesThere.map(({ name }) => name));
  const standing = state.tables.filter(({ table }) => there.has(table));
  run.events({ type: 'message', text: 'Looking at what the new site has written since it was delivered' });
  const sums = await connection.checksums(standing.map(({ table }) => table));
  const differing = standing.filter(
    one => one.checksum === undefined || sums.get(one.table) !== one.checksum,
  );
  const changed = new Map<string, PrintedContent>();
  const tables: WrittenTable[] = [];
  if (differing.length === 0) return { at: state.at, tables, changed };
  const selfWritten = new SelfWrittenData(family.name, prefix);
  const looks = await pMap(
    differing,
    one => {
      run.signal.throwIfAborted();
      return changesIn(connection, one, { columns: columns.get(one.table) ?? [], selfWritten, folder });
    },
    { concurrency: tablesAtOnce },
  );
  for (const [i, one] of differing.entries()) {
    const written = looks[i];
    if (!written) continue;
    changed.set(one.table, written.now);
    if (written.rows > 0) tables.push(written.table);
  }
  return { at: state.at, tables, changed };
}

/** What differs in one table; undefined for nothing. */
async function changesIn(
  connection: DatabaseConnection,
  { table, key, rows, digest }: DeliveredTable,
  {
    columns,
    selfWritten,
    folder,
  }: {
    readonly columns: readonly Column[];
    readonly selfWritten: SelfWrittenData;
    readonly folder: StateFolder;
  },
): Promise<{ table: WrittenTable; rows: number; now: PrintedContent } | undefined> {
  const before = await folder.prints(table);
  const places = key.map(name => columns.findIndex(column => column.name === name));
  const now = new ContentDigest(columns.map(kindOf), places.includes(-1) ? [] : places);
  const isOwn = selfWritten.isTable(table);
  const found = { rows: 0, keys: [] as string[], latest: undefined as string | undefined };
  await connection.eachRow(table, columns, cells => {
    now.add(cells);
    const row = now.digestOf(cells);
    if (before?.find(now.keyOf(cells, row), row) === 'same') return;
    const text = (name: string) => textIn(cells, columns, name);
    if (isOwn || selfWritten.isRow(table, text)) return;
    found.rows++;
    if (found.keys.length < mostKeys) found.keys.push(shownKey(cells, places));
    const time = latestTime(cells, columns);
    if (time !== undefined && (found.latest === undefined || time > found.latest)) found.latest = time;
  });
  const content = now.content();
  if (content.rows === rows && content.digest === digest) return undefined;
  // Of rows that are gone nobody knows any more whether the site itself removes such.
  const mayBeOwn = isOwn || selfWritten.hasRows(table);
  const gone = before && now.prints && !mayBeOwn ? now.prints.since(before).gone.size : 0;
  const all = found.rows + gone;
  return {
    table: { table, rows: all, keys: found.keys, latest: found.latest },
    rows: all,
    now: { ...content, prints: now.prints },
  };
}

function textIn(
  cells: readonly (Buffer | null)[],
  columns: readonly Column[],
  name: string,
): string | undefined {
  const cell = cells[columns.findIndex(column => column.name === name)];
  return cell ? textOf(bytesOf(cell)) : undefined;
}

function shownKey(cells: readonly (Buffer | null)[], places: readonly number[]): string {
  return places.map(at => showable(textOf(bytesOf(cells[at] ?? Buffer.alloc(0)))).slice(0, 40)).join(', ');
}

/** The latest moment that a row names in a column of a date with a time. */
function latestTime(cells: readonly (Buffer | null)[], columns: readonly Column[]): string | undefined {
  let latest: string | undefined;
  for (const [i, { type }] of columns.entries()) {
    if (type !== 'datetime' && type !== 'timestamp') continue;
    const time = cells[i]?.toString('latin1').slice(0, 19);
    if (time && !time.startsWith('0000') && (latest === undefined || time > latest)) latest = time;
  }
  return latest;
}
