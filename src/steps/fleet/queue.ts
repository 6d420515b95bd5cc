import { setTimeout } from 'node:timers/promises';
import { readProgress } from '../../core/fleet/progress.js';
import { FleetQueue, type QueuedSite } from '../../ends/queue/fleet-queue.js';
import type { FleetRunner, Observe, SiteJob } from './runner.js';

/** How often is looked what the workers have noted, and how often sites are added that a server has lost, in milliseconds. */
const lookEvery = 300;
const addEvery = 10_000;
/** So long the queue is waited for where the run ends, in milliseconds. */
const patience = 1000;

/** Lets the machines that wait at a queue work through a fleet, and watches them. */
export class OnTheQueue implements FleetRunner {
  private readonly fleet: string;
  private readonly url: string;
  private readonly batch: string;
  private readonly say: (text: string) => void;

  /** @param say shows a message */
  constructor(fleet: string, url: string, run: string, say: (text: string) => void) {
    this.fleet = fleet;
    this.url = url;
    this.batch = run;
    this.say = say;
  }

  async run(jobs: readonly SiteJob[], observe: Observe, signal: AbortSignal): Promise<void> {
    const queue = await FleetQueue.open(this.url, this.fleet, this.say);
    try {
      await this.watch(queue, jobs, observe, signal);
    } finally {
      await queue.close();
    }
  }

  private async watch(
    queue: FleetQueue,
    jobs: readonly SiteJob[],
    observe: Observe,
    signal: AbortSignal,
  ): Promise<void> {
    const run = this.batch;
    const sites = jobs.map(
      ({ name, command, hosts, digest }): QueuedSite => ({ run, site: name, command, hosts, digest }),
    );
    // What an interrupted run has left there is not begun any more; who works on a site ends with it first.
    await queue.drain();
    for (const { site } of sites) observe({ site, state: 'waiting' });
    const shown = new Map<string, string>();
    const open = new Set(sites.map(({ site }) => site));
    let added = 0;
    let told = false;
    const ask = <T>(asked: Promise<T>) => orEnd(asked, signal);
    while (open.size > 0) {
      if (signal.aborted) return this.leave(queue);
      if (Date.now() - added > addEvery) {
        await ask(queue.add(sites.filter(({ site }) => open.has(site))));
        if (added > 0 && !told && (await ask(queue.workers())) === 0) {
          told = true;
          this.say(`No worker waits at ${queue.text}: run "able-porter fleet work" on each machine.`);
        }
        added = Date.now();
      }
      const states = (await ask(queue.states(run))) ?? {};
      for (const site of open) {
        const text = states[site];
        if (text === undefined || text === shown.get(site)) continue;
        shown.set(site, text);
        const progress = readProgress(text, site);
        if (!progress) continue;
        observe(progress);
        if (progress.state === 'ended') open.delete(site);
      }
      await setTimeout(lookEvery);
    }
  }

  private async leave(queue: FleetQueue): Promise<void> {
    const isDrained = await Promise.race([queue.drain().then(() => true), setTimeout(patience, false)]);
    this.say(
      isDrained
        ? 'Sites that are under way are finished by their workers; run it again for the others.'
        : 'The queue does not answer: what waits there is begun by workers once it does. Run it again to watch them.',
    );
  }
}

/** What was asked of the queue; undefined where the run ends first: a server that is away answers nobody. */
async function orEnd<T>(asked: Promise<T>, signal: AbortSignal): Promise<T | undefined> {
  if (signal.aborted) return undefined;
  let end = () => {};
  const ended = new Promise<undefined>(resolve => {
    end = () => resolve(undefined);
  });
  signal.addEventListener('abort', end, { once: true });
  return Promise.race([asked, ended]).finally(() => signal.removeEventListener('abort', end));
}
