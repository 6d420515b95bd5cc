import { type CutoverPlan, planCutover } from '../core/dns/plan.js';
import { UsageError } from '../core/errors.js';
import { finding } from '../core/findings/findings.js';
import { refuseClosed } from './move/life.js';
import { doStep, noteDeed, type StepOutcome, type StepRun } from './move/step.js';

/** Plans the change in the DNS that the sheet's records ask for. Nothing is changed. */
export async function cutover(run: StepRun): Promise<StepOutcome<CutoverPlan | undefined>> {
  const { oldAddress, newAddress, sheet } = run.move;
  const records = sheet.dns?.['address-records'];
  const input = {
    oldHost: oldAddress.host,
    newHost: newAddress.host,
    records,
    ttl: sheet.dns?.ttl,
    zone: sheet.dns?.zone,
  };
  return doStep(run, 'cutover', input, async findings => {
    if (!records) {
      findings.add(
        finding({
          level: 'note',
          code: 'records-not-named',
          place: 'dns.address-records',
          what: 'The sheet names no address records, so no plan was made',
          remedy:
            'Add dns: { address-records: { old: 192.0.2.10, new: 198.51.100.20 } } with your hosts’ addresses',
        }),
      );
      return { result: undefined, brief: {} };
    }
    const plan = planCutover({ ...input, records });
    return { result: plan, brief: { records: plan.records } };
  });
}

/**
 * Notes that somebody has switched the DNS, or has switched it back: the move is live, or open again.
 * @throws UsageError where nobody says that it was done by hand, or the move is closed
 */
export async function noteSwitched(
  run: StepRun,
  action: 'switch' | 'back',
  byHand: boolean,
): Promise<'live' | 'open'> {
  const doing = action === 'switch' ? 'Switching the DNS' : 'Switching the DNS back';
  await refuseClosed(run.move, doing);
  if (!byHand) {
    throw new UsageError({
      doing,
      cause: 'the DNS is changed by hand, where its records are kept',
      remedy: `Follow the plan (able-porter cutover), then say so: able-porter cutover ${action} --by-hand`,
    });
  }
  await noteDeed(run, 'cutover', { kind: action === 'switch' ? 'went live' : 'went back' });
  return action === 'switch' ? 'live' : 'open';
}
