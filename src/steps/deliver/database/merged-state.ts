import { textOf } from '../../../core/bytes.js';
import type { Family } from '../../../core/site/families/family.js';
import type { DatabaseEnd } from '../../../ends/database/database-end.js';
import type { CrateManifest } from '../../../ends/move-folder/crate.js';
import type { Move } from '../../move/open.js';
import type { StepRun } from '../../move/step.js';
import { tablesOfCrate } from '../../move/tables.js';
import { newTableName, prefixChangeOf } from '../../move/terms.js';
import type { RowPlan } from './change-rows.js';
import { type DeliveredState, type DeliveredTable, StateFolder } from './delivered-state.js';
import type { TableProof } from './verify.js';

/**
 * Writes down what the database will hold once rows are changed: tables that stay as they were noted, those of which rows
 * change as the dump has them, and those that were loaded.
 */
export async function noteRowsState(
  { move }: StepRun,
  database: DatabaseEnd,
  dump: string,
  plan: RowPlan,
  loaded: DeliveredState | undefined,
): Promise<void> {
  const before = new StateFolder(move, 'delivered');
  const last = (await before.read())!;
  const staged = new StateFolder(move, 'staged');
  if (!loaded) await staged.begin();
  const shapes = plan.dump.made.found();
  const tables: DeliveredTable[] = [...(loaded?.tables ?? [])];
  const changing = new Set(plan.rows.map(({ table }) => table));
  for (const table of [...plan.same, ...changing]) {
    const noted = last.tables.find(one => one.table === table)!;
    const { rows, digest, prints } = plan.wanted.get(table)!;
    // Where the server has computed something else since, the rows are as they are to be all the same.
    const isAsNoted = !changing.has(table) && noted.digest === digest;
    const shape = shapes.tables.get(table);
    const key = plan.keys.get(table) ?? [];
    tables.push({ table, rows, digest, checksum: isAsNoted ? noted.checksum : undefined, key, shape });
    if (prints) await staged.writePrints(table, prints);
    else await staged.takePrints(table, before);
  }
  const { charset, timeZone } = plan.dump;
  await staged.finish({
    database: database.id,
    dump,
    at: new Date().toISOString(),
    speaks: { charset, timeZone },
    tables,
    programs: shapes.programs,
  });
}

/** What is known of the tables that were not loaded, as a later check needs it. */
export function proofsOf(
  { same, rows, wanted }: RowPlan,
  manifest: CrateManifest,
  move: Move,
  family: Family,
): TableProof[] {
  const change = prefixChangeOf(move, family, manifest.from.prefix);
  const taken = new Map(
    tablesOfCrate(move, manifest).own.map(one => [newTableName(one.table, change), one.rows]),
  );
  return [...same, ...rows.map(({ table }) => table)].map(table => {
    const { rows: now, digest } = wanted.get(table)!;
    const old = taken.get(table) ?? taken.get(textOf(table)) ?? now;
    return { table, rows: old, expected: old, equal: true, compared: true, digest, taken: old - now };
  });
}
