import type { Move } from './move.js';
import { clearFolders, putBack, type Remains, remainsOf } from './put-back.js';
import { doStep, type StepOutcome, type StepRun } from './run.js';

export interface UndoResult {
  readonly removed: readonly string[];
  readonly restored: readonly string[];
}

/** What `undo` would do now. */
export async function planUndo(move: Move): Promise<Remains[]> {
  const remains = await remainsOf(move, await move.folder.readJournal());
  return remains.filter(one => one.delivered || one.keepsake !== undefined || one.scraps.length > 0);
}

/** Puts the new end back as it was before the first delivery. */
export async function undo(run: StepRun): Promise<StepOutcome<UndoResult>> {
  const remains = await planUndo(run.move);
  return doStep({ ...run, again: true }, 'undo', { remains }, async () => {
    for (const one of remains) await putBack(run, one);
    await clearFolders(run.move);
    const result = {
      removed: remains.filter(one => one.delivered).map(({ place }) => place),
      restored: remains.filter(one => one.keepsake !== undefined).map(({ place }) => place),
    };
    return { result, findings: [], brief: { ...result } };
  });
}
