import { setTimeout } from 'node:timers/promises';
import { DelayedError, Queue, Worker } from 'bullmq';
import { Redis } from 'ioredis';
import { EndError } from '../../core/errors.js';
import { withoutCredentials } from '../../core/files/place-url.js';
import { Leases } from './leases.js';

/** A site that is to be worked on, as every machine can read it. It holds no secret. */
export interface QueuedSite {
  /** By which several machines know what belongs together. */
  readonly run: string;
  readonly site: string;
  readonly command: readonly string[];
  readonly hosts: readonly string[];
  /** Of its sheet. */
  readonly digest: string;
}

/** What a worker does with a site that it is given: it has ended, or is to be given again in so many milliseconds. */
export type Worked = 'ended' | { readonly again: number };

/** A worker that dies is noticed after this, in milliseconds. */
const lockDuration = 15_000;
const stalledInterval = 5_000;
/** A lease is renewed three times in this, in milliseconds. */
const leaseHolds = 15_000;
/** What is known of a run is forgotten after this, in seconds: a week. */
const remembered = 7 * 24 * 3600;

/** The queue of a fleet on a Redis server, and what all machines know of its sites. */
export class FleetQueue {
  readonly leases: Leases;
  /** The server without a password. */
  readonly text: string;
  private readonly redis: Redis;
  private readonly url: string;
  private readonly name: string;
  private readonly prefix: string;
  private queue: Queue<QueuedSite> | undefined;
  private worker: Worker<QueuedSite> | undefined;
  private isClosed = false;

  private constructor(url: string, name: string, redis: Redis) {
    this.url = url;
    this.text = withoutCredentials(url);
    this.name = `fleet-${name}`;
    this.prefix = `able-porter:${name}`;
    this.redis = redis;
    this.leases = new Leases(redis, this.prefix, leaseHolds);
  }

  /** @param name of the fleet @param say shows when the server is away, and when it is back @throws EndError where none answers */
  static async open(url: string, name: string, say: (text: string) => void): Promise<FleetQueue> {
    const redis = new Redis(url, { maxRetriesPerRequest: null, lazyConnect: true });
    redis.on('error', () => {});
    try {
      await redis.connect();
      await redis.ping();
    } catch (cause) {
      redis.disconnect();
      throw new EndError(
        {
          doing: `Opening the queue at ${withoutCredentials(url)}`,
          cause: (cause as Error).message,
          remedy: 'Check host, port and password of the Redis server',
        },
        { cause },
      );
    }
    const queue = new FleetQueue(url, name, redis);
    queue.watchLine(say);
    return queue;
  }

  private watchLine(say: (text: string) => void): void {
    let isThere = true;
    this.redis.on('close', () => {
      if (isThere && !this.isClosed) say(`The queue at ${this.text} does not answer; waiting for it`);
      isThere = false;
    });
    this.redis.on('ready', () => {
      if (!isThere) say(`The queue at ${this.text} answers again`);
      isThere = true;
    });
  }

  /** Adds sites; one that is there already is not added again. */
  async add(sites: readonly QueuedSite[]): Promise<void> {
    const opts = { removeOnComplete: true, removeOnFail: true };
    await this.opened().addBulk(
      sites.map(data => ({ name: 'site', data, opts: { ...opts, jobId: `${data.run}-${data.site}` } })),
    );
  }

  /** Takes away what nobody has begun. */
  async drain(): Promise<void> {
    await this.opened().drain(true);
  }

  /** How many workers wait at the queue. */
  async workers(): Promise<number> {
    return this.opened().getWorkersCount();
  }

  /** Gives sites to be worked on, so many at once, until it is closed. */
  work(atOnce: number, work: (site: QueuedSite) => Promise<Worked>): void {
    this.worker = new Worker<QueuedSite>(
      this.name,
      async (job, token) => {
        const worked = await work(job.data);
        if (worked === 'ended') return;
        await job.moveToDelayed(Date.now() + worked.again, token);
        throw new DelayedError();
      },
      {
        connection: this.connection(),
        prefix: 'able-porter',
        concurrency: atOnce,
        lockDuration,
        stalledInterval,
        // One that died often is given again as often: its site was resumed each time.
        maxStalledCount: 1000,
      },
    );
    this.worker.on('error', () => {});
  }

  /** The key of the hash in which the state of every site of a run is. */
  statesKey(run: string): string {
    return `${this.prefix}:states:${run}`;
  }

  /** What is noted of every site of a run, as texts by name. */
  async states(run: string): Promise<Readonly<Record<string, string>>> {
    const key = this.statesKey(run);
    await this.redis.expire(key, remembered);
    return this.redis.hgetall(key);
  }

  async state(run: string, site: string): Promise<string | undefined> {
    return (await this.redis.hget(this.statesKey(run), site)) ?? undefined;
  }

  /** In whose folder the move of a site is: the first that says so. */
  async ownerOf(site: string, owner: string): Promise<string> {
    const key = `${this.prefix}:owners`;
    await this.redis.hsetnx(key, site, owner);
    return (await this.redis.hget(key, site)) ?? owner;
  }

  /** Makes another the owner of a site's move. @returns the worker that has the site now, where one has; nothing is changed then */
  async adopt(site: string, owner: string): Promise<string | undefined> {
    const worker = await this.leases.holder(site);
    if (worker === undefined) await this.redis.hset(`${this.prefix}:owners`, site, owner);
    return worker;
  }

  /**
   * Ends; what is worked on is waited for, and the server as long as it answers.
   * @param isWorking whether something is worked on
   * @returns whether everything was given back: where the server is away, it is by itself, a little later
   */
  async close(isWorking: () => boolean = () => false): Promise<boolean> {
    this.isClosed = true;
    const closing = this.closeAll().then(() => true);
    closing.catch(() => {});
    let isBack = false;
    while (!isBack && (isWorking() || this.redis.status === 'ready'))
      isBack = await Promise.race([closing, setTimeout(200, false)]);
    this.redis.disconnect();
    return isBack;
  }

  private async closeAll(): Promise<void> {
    await this.worker?.close();
    await this.queue?.close();
  }

  private opened(): Queue<QueuedSite> {
    if (!this.queue) {
      this.queue = new Queue(this.name, { connection: this.connection(), prefix: 'able-porter' });
      this.queue.on('error', () => {});
    }
    return this.queue;
  }

  private connection(): { readonly url: string; readonly maxRetriesPerRequest: null } {
    return { url: this.url, maxRetriesPerRequest: null };
  }
}
