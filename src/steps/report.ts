import { resolve } from 'node:path';
import type { Finding } from '../core/findings/findings.js';
import { byWeight } from '../core/findings/findings.js';
import { type StepName, stepNames } from '../core/journal.js';
import { whileDoing } from '../ends/system-errors.js';
import { writeWhole } from '../ends/whole-file.js';
import { version } from '../version.js';
import type { CheckResult } from './check.js';
import type { cutover } from './cutover.js';
import type { DeliverResult } from './deliver.js';
import { type Ledger, ledgerOf } from './move/ledger.js';
import { readResult, type StepRun } from './move/step.js';
import type { PackResult } from './pack.js';
import { type KeptRedirectTest, lastTest } from './redirects/deeds.js';
import type { RedirectsResult } from './redirects.js';
import type { RewriteResult } from './rewrite.js';
import { leftToDo } from './tidy/to-do.js';

/** The result of each step that a report shows, when it ended last. */
export interface StepResults {
  pack?: PackResult;
  rewrite?: RewriteResult;
  deliver?: DeliverResult;
  check?: CheckResult;
  redirects?: RedirectsResult;
  /** The last test of the redirects at the old host. */
  redirectsTest?: KeptRedirectTest | undefined;
  cutover?: Awaited<ReturnType<typeof cutover>>['result'];
}

/** A step as the journal has it. */
export interface ReportedStep {
  readonly step: StepName;
  /** `stale`: done before a step that it builds on was done again. */
  readonly state: 'not yet' | 'begun' | 'done' | 'stale' | 'stopped' | 'failed';
  /** ISO 8601, UTC. */
  readonly at: string | undefined;
  readonly seconds: number | undefined;
  readonly error: string | undefined;
}

/** Everything that the steps of a move measured. */
export interface MoveReport {
  readonly name: string;
  readonly from: string;
  readonly to: string;
  /** When the last of it was measured, ISO 8601, UTC; undefined where nothing was. */
  readonly made: string | undefined;
  readonly by: string;
  readonly steps: readonly ReportedStep[];
  /** What the steps found when each ended last, the gravest first. */
  readonly findings: readonly (Finding & { readonly step: StepName })[];
  readonly results: StepResults;
  readonly toDo: readonly string[];
}

/** Gathers what the journal and the steps' results say. No end is asked, and nothing is changed. */
export async function gatherReport(run: StepRun): Promise<MoveReport> {
  const { move } = run;
  const { folder, sheet } = move;
  const ledger = await ledgerOf(move);
  const steps = reported(ledger);
  const findings: (Finding & { step: StepName })[] = [];
  const results: Partial<Record<StepName, unknown>> = {};
  for (const { step, state } of steps) {
    if (!['done', 'stale', 'stopped'].includes(state)) continue;
    const kept = await readResult<unknown>(folder, step);
    if (!kept) continue;
    results[step] = kept.result;
    findings.push(...kept.findings.map(finding => ({ ...finding, step })));
  }
  return {
    name: sheet.name,
    from: sheet.old.address,
    to: sheet.new.address,
    // Not when the page is written: of the same move it is the same page.
    made: steps
      .flatMap(({ at }) => at ?? [])
      .sort()
      .at(-1),
    by: `able-porter ${version}`,
    steps,
    findings: byWeight(findings),
    results: { ...(results as StepResults), redirectsTest: await lastTest(folder) },
    toDo: await leftToDo(run, ledger),
  };
}

/** Steps of which each builds on those before it. */
const builds: readonly StepName[] = ['pack', 'rewrite', 'deliver', 'check'];

function reported(ledger: Ledger): ReportedStep[] {
  let last = '';
  return stepNames.map(step => {
    const { state, record } = ledger.stateOf(step);
    const stale = builds.includes(step) && state === 'done' && record!.at < last;
    if (builds.includes(step) && record && record.at > last) last = record.at;
    const { at, seconds, error } = record ?? {};
    return { step, state: stale ? 'stale' : state, at, seconds, error };
  });
}

/** Writes the report's page whole; gives its path. @param out where; undefined for the move folder */
export async function writePage(
  { move }: Pick<StepRun, 'move'>,
  name: 'report.html' | 'check.html',
  page: string,
  out: string | undefined,
): Promise<string> {
  const file = out === undefined ? move.folder.at(name) : resolve(out);
  await whileDoing(`Writing ${file}`, () => writeWhole(file, page));
  return file;
}
