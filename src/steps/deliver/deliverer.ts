import type { FindingLog } from '../move/step.js';

/** A part of a delivery: the files, the finished dump, or the database at its server. */
export interface Deliverer {
  /** Makes the part ready. A finding that says `stop` keeps every part from being published. */
  stage(findings: FindingLog): Promise<void>;
  /** Puts what was staged in its place. @returns where what was there before is kept */
  publish(findings: FindingLog): Promise<readonly string[]>;
}
