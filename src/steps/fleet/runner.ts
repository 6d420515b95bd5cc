import type { SiteOutcome, SiteProgress } from '../../core/fleet/outcome.js';

/** A command to be run on the move of a site. */
export interface SiteJob {
  readonly name: string;
  readonly sheet: string;
  readonly hosts: readonly string[];
  /** Of the sheet. */
  readonly digest: string;
  /** The command with its options, without the sheet's. */
  readonly command: readonly string[];
}

/** Receives what is seen of a site whenever it changes. */
export type Observe = (progress: SiteProgress) => void;

/** Who works through a fleet: this machine alone, or several. */
export interface FleetRunner {
  /** Runs all jobs, each once; a site's trouble does not end the others. Comes back when all have ended, or were ended. */
  run(jobs: readonly SiteJob[], observe: Observe, signal: AbortSignal): Promise<void>;
}

/** Runs one job in a process of its own. */
export type RunSite = (
  job: SiteJob,
  given: {
    readonly observe: Observe;
    readonly signal: AbortSignal;
    readonly fence?: number | undefined;
    readonly keep?: string | undefined;
  },
) => Promise<SiteOutcome>;
