import { access } from 'node:fs/promises';
import type { Move } from './move.js';
import { remainsOf, remove } from './put-back.js';
import { doStep, type StepOutcome, type StepRun } from './run.js';

export interface TidyResult {
  readonly removed: readonly string[];
  /** What a person does after a move, in order. */
  readonly remember: readonly string[];
}

/** What `tidy` would take away now: keepsakes and half-done things at the new end, and the crate. */
export async function planTidy(move: Move): Promise<string[]> {
  const remains = await remainsOf(move, await move.folder.readJournal());
  const paths = remains.flatMap(({ keepsake, scraps }) => [
    ...(keepsake === undefined ? [] : [keepsake]),
    ...scraps,
  ]);
  try {
    await access(move.crate.folder);
    paths.push(move.crate.folder);
  } catch {
    // There is no crate to take away.
  }
  return paths;
}

/** Takes away what the move left behind. After it there is no way back but the old site itself. */
export async function tidy(run: StepRun): Promise<StepOutcome<TidyResult>> {
  const { move } = run;
  const paths = await planTidy(move);
  return doStep({ ...run, again: true }, 'tidy', { paths }, async () => {
    for (const path of paths) await remove(path);
    const remember = [
      `Open the permalink settings of ${move.sheet.new.address} once and save them`,
      'Empty the caches of the site and of any service in front of it',
      ...move.sheet.configure['switch-off'].map(
        pattern => `Switch on again, one by one, the extensions held back by ${pattern}`,
      ),
      'Look for installers, archives and dumps that somebody left in the web root',
      `Keep the redirects at ${move.sheet.old.address} for at least a year`,
    ];
    return { result: { removed: paths, remember }, findings: [], brief: { removed: paths } };
  });
}
