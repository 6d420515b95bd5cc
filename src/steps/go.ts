import { byWeight, type Finding } from '../core/findings/findings.js';
import { digestOf, type StepName } from '../core/journal.js';
import { check } from './check.js';
import { cutover } from './cutover.js';
import { type DeliveryTrial, deliver, tryDelivery } from './deliver.js';
import { ledgerOf } from './move/ledger.js';
import { refuseClosed } from './move/life.js';
import { rememberOldSite } from './move/read-site.js';
import type { StepOutcome, StepRun } from './move/step.js';
import { Forerun } from './overlap/forerun.js';
import { pack, packInputs } from './pack.js';
import { redirects } from './redirects.js';
import { type RewriteTrial, tryRewriting } from './rewrite/trial.js';
import { rewrite } from './rewrite.js';
import { compressSlowLines } from './survey/line-rates.js';
import { type SurveyResult, survey } from './survey.js';

/** The steps that can be done without a person, in order. What changes the DNS or takes things away is not among them. */
const steps = { survey, pack, rewrite, deliver, check, redirects, cutover } satisfies Partial<
  Record<StepName, (run: StepRun) => Promise<StepOutcome<unknown>>>
>;

export interface GoOutcome {
  readonly outcomes: readonly StepOutcome<unknown>[];
  /** The step that said stop, or undefined where all were done. */
  readonly stoppedAt: StepName | undefined;
}

/**
 * Run every step in order, resuming where the last run ended; a finding that says stop ends it.
 * @param surveyed gets what the survey saw, before anything is taken
 */
export async function go(
  run: StepRun,
  surveyed: (seen: SurveyResult) => void = () => {},
): Promise<GoOutcome> {
  await refuseClosed(run.move, 'Running every step');
  rememberOldSite(run.move);
  const outcomes: StepOutcome<unknown>[] = [];
  const forerun = run.oneByOne ? undefined : new Forerun(run);
  try {
    for (const step of Object.values(steps)) {
      run.signal.throwIfAborted();
      if (step === deliver) await forerun?.finish();
      const outcome = await step({ ...run, forerun });
      outcomes.push(outcome);
      if (step === survey) {
        const seen = outcome.result as SurveyResult;
        surveyed(seen);
        compressSlowLines(run.move, seen.rates);
      }
      if (outcome.state === 'stopped') return { outcomes, stoppedAt: outcome.step };
    }
    return { outcomes, stoppedAt: undefined };
  } finally {
    await forerun?.stop();
  }
}

/** What a dry run of the whole move sees. Only the survey is done; nothing is taken, and nothing is put at the new end. */
export interface GoTrial {
  readonly dryRun: true;
  readonly survey: StepOutcome<SurveyResult>;
  /** The crate on which rewriting and delivery are tried, and whether packing would take it anew. Undefined where none is there. */
  readonly crate: { readonly taken: string; readonly isCurrent: boolean } | undefined;
  readonly rewriting: RewriteTrial | undefined;
  readonly delivery: DeliveryTrial | undefined;
  readonly findings: readonly Finding[];
}

/** Surveys both ends, and tries rewriting and delivery on the crate that is there. */
export async function tryAll(run: StepRun): Promise<GoTrial> {
  const { move } = run;
  await refuseClosed(move, 'Trying every step');
  const surveyed = await survey(run);
  const nothing = { crate: undefined, rewriting: undefined, delivery: undefined };
  const trial = { dryRun: true, survey: surveyed, ...nothing, findings: surveyed.findings } as const;
  if (surveyed.state === 'stopped' || (await move.crate.identity()) === undefined) return trial;
  const { taken } = await move.crate.manifest();
  const packed = (await ledgerOf(move)).stateOf('pack');
  const isCurrent = packed.state === 'done' && packed.record?.inputs === digestOf(await packInputs(run));
  const rewriting = await tryRewriting(run, false);
  const delivery = await tryDelivery(run, { byContent: false, mirror: false, sample: false });
  const all = [surveyed.findings, rewriting.findings, delivery.findings].flat();
  const once = new Map(all.map(one => [JSON.stringify(one), one]));
  return {
    ...trial,
    crate: { taken, isCurrent },
    rewriting,
    delivery,
    findings: byWeight([...once.values()]),
  };
}
