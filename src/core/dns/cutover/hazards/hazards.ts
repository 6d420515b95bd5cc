import { byWeight, type Finding } from '../../../findings/findings.js';
import type { CutoverFacts, PlannedName, ZoneChanges } from '../facts.js';
import { addressHazards } from './addresses.js';
import { certificateHazards } from './certificate.js';
import { Hazards } from './context.js';
import { mailHazards } from './mail.js';
import { zoneHazards } from './zones.js';

/** What a cutover endangers, the gravest first. */
export function hazardsOf(
  facts: CutoverFacts,
  names: readonly PlannedName[],
  changes: readonly ZoneChanges[],
): Finding[] {
  const hazards = new Hazards(facts, names, changes);
  return byWeight([
    ...addressHazards(hazards),
    ...mailHazards(hazards),
    ...zoneHazards(hazards),
    ...certificateHazards(hazards),
  ]);
}
