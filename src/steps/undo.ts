import { type DatabaseRemains, databaseRemains, restoreDatabase } from './deliver/database/restore.js';
import type { Delivered } from './deliver/deliverer.js';
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
  const remains = files.map(({ staging: _, ...one }) => one);
  const parts: Delivered[] = files.map(one => ({ ...one, takeBack: at => putBack(at, one) }));
  if (database) parts.push({ ...database, takeBack: at => restoreDatabase(at, database) });
  return doStep({ ...run, again: true }, 'undo', { remains, database }, async () => {
    for (const part of parts) await part.takeBack(run);
    await clearFolders(run.move);
    const result = {
      removed: [
        ...files.filter(one => one.delivered).map(({ place }) => place),
        ...(database ? [database.place] : []),
      ],
      restored: parts.filter(({ keepsake }) => keepsake !== undefined).map(({ place }) => place),
    };
    return { result, brief: { ...result } };
  });
}
