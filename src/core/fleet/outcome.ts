import type { Finding } from '../findings/findings.js';

/** How the work on a site ended. */
export interface SiteOutcome {
  readonly site: string;
  /**
   * `stopped`: a finding says stop; `failed`: it could not be done to its end; `interrupted`: it was ended from outside, and the
   * next run resumes it.
   */
  readonly state: 'done' | 'stopped' | 'failed' | 'interrupted';
  /** The step that was done last, or that did not end. */
  readonly step: string | undefined;
  /** What a person reads where it is not done: the gravest finding, or the error. */
  readonly why: string | undefined;
  readonly findings: Readonly<Record<Finding['level'], number>>;
  readonly seconds: number;
}

/** Why a site is not done that was ended from outside. */
export const interruptedWhy = 'it was interrupted; the next run resumes it';

/** What is known of a site while a fleet is worked on. */
export interface SiteProgress {
  readonly site: string;
  readonly state: 'waiting' | 'running' | 'ended' | 'done before';
  readonly step?: string | undefined;
  /** From 0 to 1, of what its step does now; undefined where that is not known. */
  readonly part?: number | undefined;
  /** What it does now, or what it waits for, in a few words. */
  readonly doing?: string | undefined;
  /** Who works on it, where several machines do. */
  readonly worker?: string | undefined;
  readonly outcome?: SiteOutcome | undefined;
  /** When it began, in milliseconds since 1970. */
  readonly since?: number | undefined;
}

const weight = { failed: 0, stopped: 1, interrupted: 2, running: 3, waiting: 4, done: 5 } as const;

/** How grave it is: the worst first, and of the same kind those with more findings. */
export function byTrouble(a: SiteProgress, b: SiteProgress): number {
  const of = ({ state, outcome }: SiteProgress) =>
    weight[outcome ? outcome.state : state === 'running' || state === 'waiting' ? state : 'done'];
  const count = ({ outcome }: SiteProgress) => {
    const { stop = 0, warn = 0, note = 0 } = outcome?.findings ?? {};
    return stop * 1e6 + warn * 1e3 + note;
  };
  return of(a) - of(b) || count(b) - count(a) || (a.site < b.site ? -1 : 1);
}

/** How many sites are how far. */
export interface FleetCount {
  readonly done: number;
  readonly stopped: number;
  readonly failed: number;
  readonly interrupted: number;
  readonly running: number;
  readonly waiting: number;
}

export function countSites(sites: Iterable<SiteProgress>): FleetCount {
  const count = { done: 0, stopped: 0, failed: 0, interrupted: 0, running: 0, waiting: 0 };
  for (const { state, outcome } of sites)
    count[outcome?.state ?? (state === 'running' || state === 'waiting' ? state : 'done')]++;
  return count;
}
