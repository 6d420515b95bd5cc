import type { StepName } from '../core/journal.js';
import { check } from './check.js';
import { cutover } from './cutover.js';
import { deliver } from './deliver.js';
import { refuseClosed } from './move/life.js';
import type { StepOutcome, StepRun } from './move/step.js';
import { pack } from './pack.js';
import { redirects } from './redirects.js';
import { rewrite } from './rewrite.js';
import { survey } from './survey.js';

/** The steps that can be done without a person, in order. What changes the DNS or takes things away is not among them. */
const steps = { survey, pack, rewrite, deliver, check, redirects, cutover } satisfies Partial<
  Record<StepName, (run: StepRun) => Promise<StepOutcome<unknown>>>
>;

export interface GoOutcome {
  readonly outcomes: readonly StepOutcome<unknown>[];
  /** The step that said stop, or undefined where all were done. */
  readonly stoppedAt: StepName | undefined;
}

/** Run every step in order, resuming where the last run ended; a finding that says stop ends it. */
export async function go(run: StepRun): Promise<GoOutcome> {
  await refuseClosed(run.move, 'Running every step');
  const outcomes: StepOutcome<unknown>[] = [];
  for (const step of Object.values(steps)) {
    run.signal.throwIfAborted();
    const outcome = await step(run);
    outcomes.push(outcome);
    if (outcome.state === 'stopped') return { outcomes, stoppedAt: outcome.step };
  }
  return { outcomes, stoppedAt: undefined };
}
