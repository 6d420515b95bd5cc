import { PorterError } from '../../core/errors.js';
import { interruptedWhy, type SiteOutcome } from '../../core/fleet/outcome.js';
import { Slots } from '../../core/fleet/slots.js';
import type { FleetRunner, Observe, RunSite, SiteJob } from './runner.js';

/** Works through a fleet on this machine: so many sites at once, and so many at each host. */
export class OnThisMachine implements FleetRunner {
  private readonly runSite: RunSite;
  private readonly limits: { readonly atOnce: number; readonly perHost: number };

  constructor(runSite: RunSite, limits: OnThisMachine['limits']) {
    this.runSite = runSite;
    this.limits = limits;
  }

  async run(jobs: readonly SiteJob[], observe: Observe, signal: AbortSignal): Promise<void> {
    const slots = new Slots(this.limits.atOnce, this.limits.perHost);
    const waiting = [...jobs];
    const running = new Set<Promise<void>>();
    for (const { name } of jobs) observe({ site: name, state: 'waiting' });
    while (!signal.aborted || running.size > 0) {
      for (;;) {
        const job = signal.aborted ? undefined : slots.take(waiting);
        if (!job) break;
        const work = this.work(job, observe, signal).finally(() => {
          slots.release(job.name);
          running.delete(work);
        });
        running.add(work);
      }
      if (running.size === 0) return;
      await Promise.race(running);
    }
  }

  private async work(job: SiteJob, observe: Observe, signal: AbortSignal): Promise<void> {
    const outcome = await this.runSite(job, { observe, signal }).catch(
      (error): SiteOutcome => notRun(job, error, signal),
    );
    observe({ site: job.name, state: 'ended', outcome });
  }
}

/** The outcome of a site whose process was not started: that could not be, or the signal came first. */
export function notRun({ name }: SiteJob, error: unknown, signal: AbortSignal): SiteOutcome {
  const isEnded = signal.aborted;
  return {
    site: name,
    state: isEnded ? 'interrupted' : 'failed',
    step: undefined,
    why: isEnded
      ? interruptedWhy
      : error instanceof PorterError
        ? `${error.message}\n→ ${error.details.remedy}`
        : `its process could not be started: ${(error as Error).message}`,
    findings: { stop: 0, warn: 0, note: 0 },
    seconds: 0,
  };
}
