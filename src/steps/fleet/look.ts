import { type StepName, stepNames } from '../../core/journal.js';
import { MoveFolder } from '../../ends/move-folder/move-folder.js';
import { Ledger, type LifeOfMove } from '../move/ledger.js';
import { readResult } from '../move/step.js';
import type { Fleet, FleetSite } from './fleet.js';
import { type LastOutcome, lastOutcomes } from './record.js';

/** How far the move of a site is, as its journal says. */
export interface SiteStatus {
  readonly site: string;
  readonly from: string;
  readonly to: string;
  readonly life: LifeOfMove;
  /** The last step that ended or was begun; undefined where nothing was done. */
  readonly step: StepName | undefined;
  readonly state: 'not yet' | 'begun' | 'done' | 'stopped' | 'failed' | 'unreadable';
  /** ISO 8601, UTC. */
  readonly at: string | undefined;
  readonly done: readonly StepName[];
  readonly why: string | undefined;
  /** Of the steps that ended last. */
  readonly findings: { readonly stop: number; readonly warn: number; readonly note: number };
}

const order = { unreadable: 0, failed: 1, stopped: 2, begun: 3, 'not yet': 4, done: 5 } as const;

/** How far every move of a fleet is, the worst first. No host is asked. */
export async function fleetStatus(fleet: Fleet): Promise<SiteStatus[]> {
  const last = await lastOutcomes(fleet);
  const all = await Promise.all(
    fleet.sites.map(async site => withOutcome(await lookAt(site), last.get(site.name))),
  );
  return all.sort(
    (a, b) =>
      order[a.state] - order[b.state] ||
      b.findings.stop - a.findings.stop ||
      b.findings.warn - a.findings.warn ||
      (a.site < b.site ? -1 : 1),
  );
}

/** What failed before it came to a step is in no journal, and what a machine did that shares no folder in none that is here. */
function withOutcome(status: SiteStatus, last: LastOutcome | undefined): SiteStatus {
  if (!last || last.at < (status.at ?? '')) return status;
  const { state, why, step, findings } = last.outcome;
  const ended = { ...status, step: (step as StepName | undefined) ?? status.step, at: last.at, why };
  if (state === 'failed') return { ...ended, state };
  if (status.state !== 'not yet') return status;
  return { ...ended, state: state === 'interrupted' ? 'begun' : state, findings };
}

async function lookAt({ name, from, to, sheet }: FleetSite): Promise<SiteStatus> {
  const folder = new MoveFolder(sheet);
  const nothing = { site: name, from, to, done: [], findings: { stop: 0, warn: 0, note: 0 } };
  try {
    const ledger = new Ledger(await folder.readJournal());
    const states = stepNames.map(step => ({ step, ...ledger.stateOf(step) }));
    const last = states
      .filter(({ record }) => record !== undefined)
      .sort((a, b) => (a.record!.at < b.record!.at ? -1 : 1))
      .at(-1);
    const findings = { stop: 0, warn: 0, note: 0 };
    let stops: string | undefined;
    for (const { step, state } of states) {
      if (state !== 'done' && state !== 'stopped') continue;
      for (const { level, code, what } of (await readResult(folder, step))?.findings ?? []) {
        findings[level]++;
        if (level === 'stop') stops ??= `${code}: ${what}`;
      }
    }
    return {
      ...nothing,
      life: ledger.life,
      step: last?.step,
      state: last?.state ?? 'not yet',
      at: last?.record?.at,
      done: states.filter(({ state }) => state === 'done').map(({ step }) => step),
      why: last?.state === 'failed' ? last.record?.error : stops,
      findings,
    };
  } catch (error) {
    const why = (error as Error).message;
    return { ...nothing, life: 'open', step: undefined, state: 'unreadable', at: undefined, why };
  }
}
