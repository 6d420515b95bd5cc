import { UsageError } from '../../core/errors.js';
import { saysStop } from '../../core/findings/findings.js';
import type { CutoverPhase } from '../../core/journal.js';
import type { CutoverResult, PhaseChanges } from '../cutover.js';
import { readResult, type StepRun } from '../move/step.js';

/**
 * The plan that was made last.
 * @throws UsageError where there is none, or one of its findings says stop
 */
export async function plannedCutover({ move }: StepRun, doing: string): Promise<CutoverResult> {
  const kept = await readResult<CutoverResult | undefined>(move.folder, 'cutover');
  if (!kept?.result) {
    throw new UsageError({
      doing,
      cause: 'the cutover is not planned yet',
      remedy: 'Run "able-porter cutover" and read the plan first',
    });
  }
  if (saysStop(kept.findings)) {
    const codes = kept.findings.filter(({ level }) => level === 'stop').map(({ code }) => code);
    throw new UsageError({
      doing,
      cause: `the plan found what must be put right first (${[...new Set(codes)].join(', ')})`,
      remedy: 'Follow its remedies and plan again; what is meant to be so can be named in dns.accept',
    });
  }
  return kept.result;
}

/** What a plan changes in a phase. */
export function changesOf({ changes }: CutoverResult, phase: CutoverPhase): PhaseChanges[] {
  return changes.filter(one => one.phase === phase);
}
