import { type DatabaseRemains, databaseRemains, restoreDatabase } from './deliver/database/restore.js';
import { clearFolders, putBack, type Remains, remainsOf } from './deliver/files/restore.js';
import { ledgerOf } from './move/ledger.js';
import type { Move } from './move/open.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';

export interface UndoResult {
  readonly removed: readonly string[];
  readonly restored: readonly string[];
}

/** What `undo` would do now. */
export async function planUndo(
  move: Move,
): Promise<{ files: Remains[]; database: DatabaseRemains | undefined; places: string[] }> {
  const remains = await remainsOf(move, await ledgerOf(move));
  const files = remains.filter(one => one.delivered || one.keepsake !== undefined || one.scraps.length > 0);
  const database = await databaseRemains(move);
  const places = [...files.map(({ place }) => place), ...(database ? [database.place] : [])];
  return { files, database, places };
}

/** Puts the new end back as it was before the first delivery. */
export async function undo(run: StepRun): Promise<StepOutcome<UndoResult>> {
  const { files, database } = await planUndo(run.move);
  const remains = files;
  const inputs = remains.map(({ staging: _, ...one }) => one);
  return doStep({ ...run, again: true }, 'undo', { remains: inputs, database }, async () => {
    for (const one of remains) await putBack(run, one);
    await clearFolders(run.move);
    if (database) await restoreDatabase(run, database);
    const kept = [...remains, ...(database ? [database] : [])].filter(one => one.keepsake !== undefined);
    const result = {
      removed: [
        ...remains.filter(one => one.delivered).map(({ place }) => place),
        ...(database ? [database.place] : []),
      ],
      restored: kept.map(({ place }) => place),
    };
    return { result, brief: { ...result } };
  });
}
