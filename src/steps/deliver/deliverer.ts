import type { FindingLog, StepRun } from '../move/step.js';

/** A part of a delivery: the files, the finished dump, or the database at its server. */
export interface Deliverer {
  /** Finds out, before anything is transferred, whether this part can be delivered. */
  prepare?(): Promise<void>;
  /** Makes the part ready. A finding that says `stop` keeps every part from being published. */
  stage(findings: FindingLog): Promise<void>;
  /** Puts what was staged in its place. @returns where what was there before is kept */
  publish(findings: FindingLog): Promise<readonly string[]>;
}

/** What a delivery left at a place of the new end. It is known from the journal, and so outlives its deliverer. */
export interface Delivered {
  readonly place: string;
  /** Where what was there before is kept; undefined where nothing was there. */
  readonly keepsake: string | undefined;
  /** Removes what was delivered and restores the keepsake. Safe to repeat from any moment. */
  takeBack(run: StepRun): Promise<void>;
}
