import type { TableContent } from '../../../core/database/content/content-digest.js';
import { ContentDigest, kindOf } from '../../../core/database/content/content-digest.js';
import { DumpContent } from '../../../core/database/content/dump-content.js';
import { RememberedRows } from '../../../core/database/content/piece-prints.js';
import type { KeySet, RowPrints } from '../../../core/database/content/row-prints.js';
import {
  type ChangingTable,
  RowChanges,
  type RowsToChange,
  tupleOf,
} from '../../../core/database/row-changes.js';
import type { DataEdit } from '../../../core/site/data/data-edits.js';
import type { RowChange } from '../../../core/site/data/row-edits.js';
import type { Column } from '../../../core/sql/column.js';
import type { DatabaseConnection, DatabaseEnd, SeenTable } from '../../../ends/database/database-end.js';
import { readDump } from '../../../ends/database/dump/reader.js';
import { movedDump } from '../../../ends/move-folder/crate.js';
import type { Replacement } from '../../move/replacement.js';
import type { StepRun } from '../../move/step.js';
import type { DeliveredState, StateFolder } from './delivered-state.js';
import { PieceFile } from './piece-file.js';
import type { WrittenSince } from './written-since.js';

/** Of a table of which more rows change, all of it is loaded. */
const mostChanging = 0.25;
/** Engines whose changes can be taken back. */
const withTransactions = /^(?:innodb|rocksdb|tokudb)$/i;

/** How far the tables of a delivery are there already. */
export interface RowPlan {
  readonly same: readonly string[];
  readonly rows: readonly { readonly table: string; readonly keys: KeySet; readonly gone: KeySet }[];
  /** Tables that are loaded as a whole. */
  readonly whole: readonly string[];
  /** What the tables are to hold, by table. */
  readonly wanted: ReadonlyMap<string, TableContent & { readonly prints: RowPrints | undefined }>;
  readonly columns: ReadonlyMap<string, readonly Column[]>;
  readonly keys: ReadonlyMap<string, readonly string[]>;
  readonly dump: DumpContent;
  /** Rows of it that may have changed. */
  readonly remembered: RememberedRows;
}

/** What is known of the last delivery, and of what is there. */
interface Known {
  readonly state: DeliveredState;
  readonly folder: StateFolder;
  readonly written: WrittenSince;
  readonly replacement: Replacement;
  readonly edits: readonly DataEdit[];
  readonly names: readonly string[];
}

/** Compares the dump with what is there, row by row, by the fingerprints that the last delivery left. */
export async function planRows(
  run: StepRun,
  database: DatabaseEnd,
  known: Known,
): Promise<RowPlan | undefined> {
  const { state, replacement, names } = known;
  const { columns, keys, triggers } = await database.use(async connection => ({
    columns: await connection.columns(),
    keys: await connection.keys(),
    triggers: await connection.programs(new Set(names), []),
  }));
  const standing = new Map(replacement.there.map(one => [one.name, one]));
  const edits = known.edits;
  const wantedKeys = new Map(names.map(name => [name, keys.get(name) ?? []]));
  const remembered = new RememberedRows();
  const memory = PieceFile.open(run.move);
  const dump = new DumpContent(run.move.bench, {
    columns: new Map(names.flatMap(name => (columns.has(name) ? [[name, columns.get(name)!]] : []))),
    edits,
    keys: wantedKeys,
    memory,
    remembered,
  });
  const file = run.move.crate.at(movedDump);
  const progress = (done: number) =>
    run.events({ type: 'progress', what: 'comparing the dump', done, of: 0, unit: 'bytes' });
  await memory.during(() => readDump(run.move.bench, file, dump, { signal: run.signal, progress }));
  const shapes = dump.made.found();
  // What works on tables would act on the changes too; where it changes itself, all is loaded anew.
  if (triggers.length > 0 || shapes.programs !== state.programs) return undefined;
  const contents = dump.contents();
  const plan = { same: [] as string[], rows: [] as RowPlan['rows'][number][], whole: [] as string[] };
  const wanted = new Map<string, TableContent & { prints: RowPrints | undefined }>();
  for (const table of names) {
    const content = contents.get(table);
    const before = state.tables.find(one => one.table === table);
    const how =
      content && before && before.shape === shapes.tables.get(table) ? standing.get(table) : undefined;
    if (!content || !before || !how) {
      plan.whole.push(table);
      continue;
    }
    wanted.set(table, { ...content, prints: dump.prints(table) });
    await classify(plan, table, { content, prints: dump.prints(table), how, known });
  }
  if (leavesKeysBehind(plan.whole, replacement)) return undefined;
  return { ...plan, wanted, columns, keys, dump, remembered };
}

async function classify(
  plan: { same: string[]; rows: RowPlan['rows'][number][]; whole: string[] },
  table: string,
  {
    content,
    prints,
    how,
    known: { state, folder, written },
  }: {
    readonly content: TableContent;
    readonly prints: RowPrints | undefined;
    readonly how: SeenTable;
    readonly known: Known;
  },
): Promise<void> {
  const before = state.tables.find(one => one.table === table)!;
  const now = written.changed.get(table);
  const current = now ?? before;
  if (current.digest === content.digest && current.rows === content.rows) {
    plan.same.push(table);
    return;
  }
  const there = now?.prints ?? (await folder.prints(table));
  if (!prints || !there || before.key.length === 0 || !withTransactions.test(how.engine)) {
    plan.whole.push(table);
    return;
  }
  const { keys, gone } = prints.since(there);
  if (keys.size + gone.size > mostChanging * Math.max(content.rows, 1000)) plan.whole.push(table);
  else plan.rows.push({ table, keys, gone });
}

/** Whether a table that stays has a foreign key to one that is swapped: it would follow the old one. */
function leavesKeysBehind(whole: readonly string[], { foreignKeys }: Replacement): boolean {
  return foreignKeys.some(({ table, references }) => whole.includes(references) && !whole.includes(table));
}

/** The rows that are to be changed, read from the dump, and what a site's edits change in them. */
export async function rowsOfPlan(
  run: StepRun,
  database: DatabaseEnd,
  { rows, columns, keys, dump, remembered }: RowPlan,
  edits: readonly DataEdit[],
): Promise<{ rows: RowsToChange[]; changes: readonly RowChange[] }> {
  if (rows.length === 0) return { rows: [], changes: [] };
  const changing = rows.map(
    ({ table, keys: wanted }): ChangingTable => ({
      table,
      columns: columns.get(table) ?? [],
      key: keys.get(table) ?? [],
      keys: wanted,
    }),
  );
  const charset = dump.charset ?? 'utf8mb4';
  const { bench, crate } = run.move;
  let reader = new RowChanges(bench, changing, { edits, charset });
  if (!reader.takeRemembered(remembered.all() ?? [])) {
    reader = new RowChanges(bench, changing, { edits, charset });
    await readDump(bench, crate.at(movedDump), reader, { signal: run.signal });
  }
  const list = rows.map(({ table }) => reader.tables.get(table)!);
  for (const [i, { gone }] of rows.entries())
    if (gone.size > 0) await database.use(connection => addGone(connection, dump, list[i]!, gone));
  return { rows: list, changes: reader.changes };
}

/** Adds the keys of rows that are there and not in the dump. */
async function addGone(
  connection: DatabaseConnection,
  { charset, timeZone }: DumpContent,
  { table, columns, key, tuples }: RowsToChange,
  gone: KeySet,
): Promise<void> {
  await connection.speakAs({ charset, timeZone });
  const own = key.map(name => columns.find(column => column.name === name)!);
  const places = own.map((_, i) => i);
  const digest = new ContentDigest(own.map(kindOf), places);
  await connection.eachRow(table, own, cells => {
    if (gone.has(digest.keyOf(cells))) tuples.push(tupleOf(cells, own, places));
  });
}
