import { randomUUID } from 'node:crypto';
import { mkdir, readFile, writeFile } from 'node:fs/promises';
import { hostname } from 'node:os';
import { dirname } from 'node:path';
import { UsageError } from '../../core/errors.js';
import { isSiteCommand } from '../../core/fleet/commands.js';
import type { SiteOutcome, SiteProgress } from '../../core/fleet/outcome.js';
import { isQueuedSite, readProgress } from '../../core/fleet/progress.js';
import { FleetQueue, type QueuedSite, type Worked } from '../../ends/queue/fleet-queue.js';
import type { Lease } from '../../ends/queue/leases.js';
import { type Fleet, sitesNamed } from './fleet.js';
import { Keeper } from './keeper.js';
import { notRun } from './on-this-machine.js';
import { fleetFile } from './record.js';
import type { Observe, RunSite, SiteJob } from './runner.js';

/** A site is asked for again after this, where its host has no room, and where another machine has its move, in milliseconds. */
const hostPause = 500;
const ownerPause = 3000;
/** What is noted of the progress of a site is noted so often at most, in milliseconds. */
const noteEvery = 500;

/** How a machine works for a fleet. */
export interface WorkWish {
  readonly url: string;
  readonly atOnce: number;
  readonly perHost: number;
  /** Sites whose machine is gone for good: they are begun anew in the move folders of this one. */
  readonly adopt: readonly string[];
  readonly runSite: RunSite;
  readonly observe: Observe;
  readonly say: (text: string) => void;
  readonly signal: AbortSignal;
}

/**
 * Works on the sites that a queue gives, until the signal; what is under way then is given back.
 * @returns whether it could be: a queue that is away gives it to others by itself
 */
export async function workForFleet(fleet: Fleet, wish: WorkWish): Promise<{ readonly isBack: boolean }> {
  const adopted = sitesNamed(fleet, wish.adopt);
  const queue = await FleetQueue.open(wish.url, fleet.name, wish.say);
  let isWorking = () => false;
  try {
    const name = `${hostname().replace(/\s/g, '-')}/${process.pid}`;
    const own = { name, moves: await idOf(fleet) };
    for (const { name: site } of adopted) {
      const busy = await queue.adopt(site, ownerText(own));
      if (busy !== undefined) throw stillWorkedOn(site, busy);
    }
    const worker = new FleetWorker(fleet, queue, wish, own);
    isWorking = () => worker.isWorking;
    queue.work(wish.atOnce, site => worker.work(site));
    wish.say(`Worker ${name} waits at ${queue.text} for sites of ${fleet.name}`);
    await new Promise<void>(resolve => {
      if (wish.signal.aborted) resolve();
      wish.signal.addEventListener('abort', () => resolve(), { once: true });
    });
  } catch (error) {
    await queue.close();
    throw error;
  }
  return { isBack: await queue.close(isWorking) };
}

/** What tells a folder of moves from others: workers that read the same one share it. */
async function idOf(fleet: Fleet): Promise<string> {
  const file = fleetFile(fleet, 'id');
  await mkdir(dirname(file), { recursive: true, mode: 0o700 });
  await writeFile(file, randomUUID(), { flag: 'wx', mode: 0o600 }).catch(error => {
    if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error;
  });
  return readFile(file, 'utf8');
}

/** A worker, and the move folders that it reads. */
interface Owner {
  readonly name: string;
  readonly moves: string;
}

function ownerText({ name, moves }: Owner): string {
  return `${moves} ${name}`;
}

function stillWorkedOn(site: string, worker: string): UsageError {
  return new UsageError({
    doing: `Adopting ${site}`,
    cause: `worker ${worker} has it now`,
    remedy: 'End that worker first; one that has died is noticed within 15 seconds',
  });
}

/** How the text of a state begins that says that a site has ended. */
const endedBegins = '{"state":"ended"';

class FleetWorker {
  private readonly fleet: Fleet;
  private readonly queue: FleetQueue;
  private readonly wish: WorkWish;
  private readonly own: Owner;
  private readonly keeper: Keeper | undefined;
  private underWay = 0;

  constructor(fleet: Fleet, queue: FleetQueue, wish: WorkWish, own: Owner) {
    this.fleet = fleet;
    this.queue = queue;
    this.wish = wish;
    this.own = own;
    this.keeper = fleet.wish.keep && new Keeper(fleet);
  }

  get isWorking(): boolean {
    return this.underWay > 0;
  }

  async work(queued: QueuedSite): Promise<Worked> {
    // Whoever can write to the queue might have made it.
    if (!isQueuedSite(queued)) return 'ended';
    const { run, site } = queued;
    if (await this.hasEnded(queued)) return 'ended';
    if (this.wish.signal.aborted) return { again: 0 };
    const job = this.jobOf(queued);
    if (typeof job === 'string') return this.wait(queued, job, ownerPause);
    const lease = await this.queue.leases.take(queued, this.own.name, this.wish.perHost);
    if ('why' in lease) {
      const text =
        lease.why === 'held' ? `worker ${lease.who} may still have it` : `${lease.who} has as many as it may`;
      return this.wait(queued, text, hostPause);
    }
    // Whoever begins with a site has its move: only now, since another folder may have room sooner.
    const owner = this.keeper ? undefined : await this.queue.ownerOf(site, ownerText(this.own));
    const [moves = this.own.moves, name] = owner?.split(' ') ?? [];
    if (moves !== this.own.moves) {
      await this.queue.leases.end(lease, this.queue.statesKey(run), undefined);
      return this.wait(queued, `for worker ${name}, which has its move folder`, ownerPause);
    }
    // Whoever ended it meanwhile has noted that before giving the lease back.
    if (await this.hasEnded(queued)) {
      await this.queue.leases.end(lease, this.queue.statesKey(run), undefined);
      return 'ended';
    }
    return this.workWith(lease, queued, job);
  }

  /** Whether a worker has ended it, which perhaps could not say so to the queue. */
  private async hasEnded({ run, site }: QueuedSite): Promise<boolean> {
    return readProgress(await this.queue.state(run, site), site)?.state === 'ended';
  }

  /** The site as this machine's `fleet.yaml` has it; a text where it has it otherwise. */
  private jobOf({ site, digest, command, hosts }: QueuedSite): SiteJob | string {
    if (!isSiteCommand(command)) return 'for somebody who knows its command, which is none of a fleet';
    const own = this.fleet.sites.find(({ name }) => name === site);
    return own?.digest === digest
      ? { name: site, sheet: own.sheet, digest, command, hosts }
      : `for a worker with this sheet; the fleet.yaml of ${this.own.name} ${own ? 'makes another' : 'has no such site'}`;
  }

  private async wait({ run, site }: QueuedSite, why: string, pause: number): Promise<Worked> {
    const state = JSON.stringify({ state: 'waiting', site, doing: `waits: ${why}` });
    await this.queue.leases.noteWaiting(site, this.queue.statesKey(run), state, endedBegins);
    return { again: pause };
  }

  private async workWith(lease: Lease, { run, site }: QueuedSite, job: SiteJob): Promise<Worked> {
    const lost = new AbortController();
    const signal = AbortSignal.any([this.wish.signal, lost.signal]);
    const keeping = this.keep(lease, lost);
    let noted = 0;
    const observe: Observe = progress => {
      const seen = { ...progress, worker: this.own.name };
      this.wish.observe(seen);
      if (lost.signal.aborted || Date.now() - noted < noteEvery) return;
      noted = Date.now();
      this.queue.leases.note(lease, this.queue.statesKey(run), JSON.stringify(seen)).catch(() => {});
    };
    try {
      const outcome = await this.runJob(job, { observe, signal, fence: lease.fence });
      const ended: SiteProgress = { state: 'ended', site, worker: this.own.name, outcome };
      // Told to end, it gives the site back; another resumes it.
      const isBack = outcome.state === 'interrupted';
      const state: SiteProgress = isBack
        ? { site, state: 'waiting', doing: 'waits: a worker has given it back' }
        : ended;
      const wasHeld = await this.queue.leases.end(lease, this.queue.statesKey(run), JSON.stringify(state));
      if (wasHeld) this.wish.observe(ended);
      return wasHeld && !isBack ? 'ended' : { again: 0 };
    } finally {
      clearInterval(keeping);
    }
  }

  /** Runs the command; where the move folder is kept at a store, that is brought here first. */
  private async runJob(
    job: SiteJob,
    given: { readonly observe: Observe; readonly signal: AbortSignal; readonly fence: number },
  ): Promise<SiteOutcome> {
    this.underWay++;
    try {
      const { runSite } = this.wish;
      if (!this.keeper) return await runSite(job, given);
      const { keep, before } = await this.keeper.takeOver(job, given.fence, given.signal);
      for (const command of before) {
        const outcome = await runSite({ ...job, command }, { ...given, keep });
        if (outcome.state !== 'done') return outcome;
      }
      return await runSite(job, { ...given, keep });
    } catch (error) {
      return notRun(job, error, given.signal);
    } finally {
      this.underWay--;
    }
  }

  /** Renews a lease until that is ended; where it cannot be renewed in time, the work ends before another can begin. */
  private keep(lease: Lease, lost: AbortController): NodeJS.Timeout {
    const { leases } = this.queue;
    let renewed = Date.now();
    return setInterval(async () => {
      const asked = Date.now();
      const late = setTimeout(() => lost.abort(), Math.max(0, renewed + leases.holds * 0.7 - asked));
      const isHeld = await leases.renew(lease).catch(() => undefined);
      if (isHeld === undefined) return;
      clearTimeout(late);
      if (isHeld) renewed = asked;
      else lost.abort();
    }, leases.holds / 5);
  }
}
