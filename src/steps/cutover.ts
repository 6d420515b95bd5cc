import { type CutoverPlan, planCutover } from '../core/dns/plan.js';
import { finding } from '../core/findings/findings.js';
import { doStep, type StepOutcome, type StepRun } from './move/step.js';

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
