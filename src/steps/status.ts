import { EndError } from '../core/errors.js';
import { digestOf, type StepName, stepNames } from '../core/journal.js';
import { checkInputs } from './check.js';
import { deliverInputs } from './deliver.js';
import { ledgerOf } from './move/ledger.js';
import { readResult, type StepRun } from './move/step.js';
import { packInputs } from './pack.js';
import { rewriteInputs } from './rewrite.js';
import { surveyInputs } from './survey/inputs.js';

/** The state of one step. */
export interface StepStatus {
  readonly step: StepName;
  /** `stale`: done, but on a sheet or an input that has changed since. */
  readonly state: 'not yet' | 'begun' | 'done' | 'stale' | 'stopped' | 'failed';
  readonly at: string | undefined;
  readonly seconds: number | undefined;
  readonly said: string;
}

/** What each step that can become stale depends on, in the order in which each builds on the one before. */
const inputs: Partial<Record<StepName, (run: StepRun) => Promise<unknown>>> = {
  survey: surveyInputs,
  pack: packInputs,
  rewrite: rewriteInputs,
  deliver: deliverInputs,
  check: checkInputs,
};
const builds: readonly StepName[] = ['pack', 'rewrite', 'deliver', 'check'];

/** Reads from the journal how far the move has come, and looks whether what was worked on has changed since. */
export async function status(run: StepRun): Promise<StepStatus[]> {
  const { folder } = run.move;
  const ledger = await ledgerOf(run.move);
  const list: StepStatus[] = [];
  let staleFromHere = false;
  for (const step of stepNames) {
    const { state, record } = ledger.stateOf(step);
    const kept = await readResult(folder, step);
    const stops = kept?.findings.filter(({ level }) => level === 'stop') ?? [];
    const seen = state === 'done' ? await hasChanged(run, step, record?.inputs) : false;
    const changed = seen === true;
    const said = {
      failed: record?.error ?? '',
      stopped: stops.map(({ what }) => what).join('; '),
      done: typeof seen === 'string' ? `as far as seen: ${seen}` : '',
      begun: '',
      'not yet': '',
    }[state];
    if (changed && builds.includes(step)) staleFromHere = true;
    const stale = changed || (state === 'done' && staleFromHere && builds.includes(step));
    list.push({ step, state: stale ? 'stale' : state, at: record?.at, seconds: record?.seconds, said });
  }
  return list;
}

/** Whether what a step was done on has changed; why not, where that could not be seen. */
async function hasChanged(
  run: StepRun,
  step: StepName,
  digest: string | undefined,
): Promise<boolean | string> {
  try {
    const now = inputs[step];
    return now !== undefined && digestOf(await now(run)) !== digest;
  } catch (error) {
    if (error instanceof EndError && error.kind !== 'not found')
      return `the host is not reached (${error.details.cause})`;
    // What it was done on is not there any more.
    return true;
  }
}
