import { EndError } from '../core/errors.js';
import { digestOf, type StepName, stepNames } from '../core/journal.js';
import { checkInputs } from './check.js';
import { type DeliverResult, deliverInputs } from './deliver.js';
import { type Ledger, type LifeOfMove, ledgerOf } from './move/ledger.js';
import { readResult, type StepRun } from './move/step.js';
import { packInputs } from './pack.js';
import { rewriteInputs } from './rewrite.js';
import { surveyInputs } from './survey/inputs.js';

/** The state of one step. */
interface StepStatus {
  readonly step: StepName;
  /** `stale`: done, but on a sheet or an input that has changed since. */
  readonly state: 'not yet' | 'begun' | 'done' | 'planned' | 'stale' | 'stopped' | 'failed';
  readonly at: string | undefined;
  readonly seconds: number | undefined;
  readonly said: string;
}

/** How far a move has come. */
export interface MoveStatus {
  readonly life: LifeOfMove;
  readonly steps: readonly StepStatus[];
  /** What a person does next. */
  readonly next: string;
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
export async function status(run: StepRun): Promise<MoveStatus> {
  const { folder } = run.move;
  const ledger = await ledgerOf(run.move);
  const list: StepStatus[] = [];
  const isClosed = ledger.life === 'closed';
  // Once visitors use the new site, what has changed since does not matter any more.
  const isOpen = ledger.life === 'open';
  let staleFromHere = false;
  for (const step of stepNames) {
    const { state, record } = isClosed ? ledger.lastOf(step) : ledger.stateOf(step);
    const kept = await readResult(folder, step);
    const stops = kept?.findings.filter(({ level }) => level === 'stop') ?? [];
    const seen = state === 'done' && isOpen ? await hasChanged(run, step, record?.inputs) : false;
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
    list.push({
      step,
      state: stale ? 'stale' : planned(step, state, ledger),
      at: record?.at,
      seconds: record?.seconds,
      said,
    });
  }
  return { life: ledger.life, steps: list, next: await nextStep(run, ledger, list) };
}

/** What is only planned is not done; the cutover is, once somebody has said so. */
function planned(step: StepName, state: StepStatus['state'], { life }: Ledger): StepStatus['state'] {
  if (state !== 'done' || (step !== 'redirects' && step !== 'cutover')) return state;
  return step === 'cutover' && life !== 'open' ? 'done' : 'planned';
}

/** What a person does next. */
async function nextStep({ move }: StepRun, ledger: Ledger, steps: readonly StepStatus[]): Promise<string> {
  if (ledger.life === 'closed') return 'nothing; nothing is left to undo either';
  if (ledger.life === 'live') return 'when all is quiet: able-porter tidy';
  const open = steps.find(
    ({ step, state }) =>
      !['done', 'planned'].includes(state) && !['undo', 'tidy', 'configure'].includes(step),
  );
  const kept = await readResult<DeliverResult>(move.folder, 'deliver');
  const { dump, parts } = kept?.result ?? {};
  const isDelivered = steps.some(({ step, state }) => step === 'deliver' && state === 'done');
  const { record } = ledger.stateOf('check');
  const isCompared =
    record?.result?.exported === true && record.at > (ledger.stateOf('deliver').record?.at ?? '');
  if (isDelivered && dump && !isCompared && (!open || open.step === 'check' || open.step === 'redirects')) {
    const load = parts
      ? `load the pieces in ${parts.folder}, as READ-ME-FIRST.txt there says`
      : `load ${dump.file}`;
    return `${load}; then export the database and run: able-porter check --export FILE`;
  }
  if (open) return `able-porter ${open.step} (or go)`;
  const { dns } = move.sheet;
  if (!dns?.['address-records']) return 'when all is quiet: able-porter tidy';
  return dns.server || dns.zone
    ? 'follow the plan (able-porter cutover): cutover prepare, then cutover night'
    : 'follow the plan (able-porter cutover), then: able-porter cutover switch --by-hand';
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
