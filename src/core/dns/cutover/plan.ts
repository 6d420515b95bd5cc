import type { Finding } from '../../findings/findings.js';
import type { CutoverFacts, PlannedName, ZoneChanges } from './facts.js';
import { hazardsOf } from './hazards/hazards.js';
import { changesByZone, planNames } from './names.js';
import { type TimelineEntry, timelineOf } from './timeline.js';

/** A cutover as it was planned. */
export interface CutoverPlan {
  readonly names: readonly PlannedName[];
  readonly changes: readonly ZoneChanges[];
  readonly timeline: readonly TimelineEntry[];
  readonly findings: readonly Finding[];
}

/** Plans a cutover: what becomes of each name, which records change when, and what that endangers. */
export function planCutover(facts: CutoverFacts): CutoverPlan {
  const names = planNames(facts);
  const changes = changesByZone(facts, names);
  return {
    names,
    changes,
    timeline: timelineOf(facts, names, changes),
    findings: hazardsOf(facts, names, changes),
  };
}
