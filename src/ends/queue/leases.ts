import type { Redis } from 'ioredis';

/** What a worker holds while it works on a site. */
export interface Lease {
  readonly site: string;
  readonly hosts: readonly string[];
  /** Larger than that of every lease of the site before. */
  readonly fence: number;
  /** What the lease is known by. */
  readonly value: string;
}

/** Why a site cannot be worked on now. */
export interface NoLease {
  readonly why: 'held' | 'host';
  /** The worker that has it, or the host that has as many sites as it may. */
  readonly who: string;
}

/**
 * One step of the server: the lease of the site is free, and each host has room. Both expire by themselves, so that a worker that
 * died gives them back. ARGV: site, worker, milliseconds, sites per host. KEYS: lease, fences, hosts.
 */
const takeScript = `
local held = redis.call('GET', KEYS[1])
if held then return { 'held', held } end
local time = redis.call('TIME')
local now = time[1] * 1000 + math.floor(time[2] / 1000)
for i = 3, #KEYS do
  redis.call('ZREMRANGEBYSCORE', KEYS[i], '-inf', now)
  if redis.call('ZCARD', KEYS[i]) >= tonumber(ARGV[4]) and not redis.call('ZSCORE', KEYS[i], ARGV[1]) then
    return { 'host', KEYS[i] }
  end
end
local fence = math.max(now, tonumber(redis.call('HGET', KEYS[2], ARGV[1]) or '0') + 1)
local value = ARGV[2] .. ' ' .. string.format('%.0f', fence)
redis.call('HSET', KEYS[2], ARGV[1], string.format('%.0f', fence))
redis.call('SET', KEYS[1], value, 'PX', ARGV[3])
for i = 3, #KEYS do
  redis.call('ZADD', KEYS[i], now + ARGV[3], ARGV[1])
  redis.call('PEXPIRE', KEYS[i], ARGV[3] * 10)
end
return { 'taken', string.format('%.0f', fence), value }
`;

/** ARGV: site, value, milliseconds. KEYS: lease, hosts. Gives 1 where the lease is still held. */
const renewScript = `
if redis.call('GET', KEYS[1]) ~= ARGV[2] then return 0 end
local time = redis.call('TIME')
local now = time[1] * 1000 + math.floor(time[2] / 1000)
redis.call('PEXPIRE', KEYS[1], ARGV[3])
for i = 2, #KEYS do
  redis.call('ZADD', KEYS[i], now + ARGV[3], ARGV[1])
  redis.call('PEXPIRE', KEYS[i], ARGV[3] * 10)
end
return 1
`;

/** ARGV: site, value, state or ''. KEYS: lease, states, hosts. Notes the state and gives the lease back, where it is held. */
const endScript = `
if redis.call('GET', KEYS[1]) ~= ARGV[2] then return 0 end
if ARGV[3] ~= '' then redis.call('HSET', KEYS[2], ARGV[1], ARGV[3]) end
redis.call('DEL', KEYS[1])
for i = 3, #KEYS do redis.call('ZREM', KEYS[i], ARGV[1]) end
return 1
`;

/** ARGV: site, value, state. KEYS: lease, states. Notes what the one who holds the lease sees. */
const noteScript = `
if redis.call('GET', KEYS[1]) ~= ARGV[2] then return 0 end
redis.call('HSET', KEYS[2], ARGV[1], ARGV[3])
return 1
`;

/** ARGV: site, state, how a state begins that stays. KEYS: states. Notes what a site waits for, unless it has ended meanwhile. */
const waitScript = `
local state = redis.call('HGET', KEYS[1], ARGV[1])
if state and string.sub(state, 1, #ARGV[3]) == ARGV[3] then return 0 end
redis.call('HSET', KEYS[1], ARGV[1], ARGV[2])
return 1
`;

/** Who works on which site, and how many at each host, over all machines. */
export class Leases {
  private readonly redis: Redis;
  private readonly prefix: string;
  /** How long one holds without being renewed, in milliseconds. */
  readonly holds: number;

  constructor(redis: Redis, prefix: string, holds: number) {
    this.redis = redis;
    this.prefix = prefix;
    this.holds = holds;
  }

  /** @param worker a name without spaces */
  async take(
    { site, hosts }: Pick<Lease, 'site' | 'hosts'>,
    worker: string,
    perHost: number,
  ): Promise<Lease | NoLease> {
    const keys = [this.leaseKey(site), `${this.prefix}:fences`, ...this.hostKeys(hosts)];
    const said = await this.redis.eval(takeScript, keys.length, ...keys, site, worker, this.holds, perHost);
    const [what, first, value] = said as [string, string, string];
    if (what === 'taken') return { site, hosts, fence: Number(first), value };
    if (what === 'held') return { why: 'held', who: first.split(' ')[0]! };
    return { why: 'host', who: first.slice(`${this.prefix}:host:`.length) };
  }

  /** The worker that has a site now. */
  async holder(site: string): Promise<string | undefined> {
    return (await this.redis.get(this.leaseKey(site)))?.split(' ')[0];
  }

  /** Whether it is still held. */
  async renew({ site, hosts, value }: Lease): Promise<boolean> {
    const keys = [this.leaseKey(site), ...this.hostKeys(hosts)];
    return (await this.redis.eval(renewScript, keys.length, ...keys, site, value, this.holds)) === 1;
  }

  /** Notes what is seen of a site, while its lease is held. @param states the key of the hash in which it is noted */
  async note({ site, value }: Lease, states: string, state: string): Promise<void> {
    await this.redis.eval(noteScript, 2, this.leaseKey(site), states, site, value, state);
  }

  /** Notes what a site waits for. @param stays how the text of a state begins that is not replaced: of one that has ended */
  async noteWaiting(site: string, states: string, state: string, stays: string): Promise<void> {
    await this.redis.eval(waitScript, 1, states, site, state, stays);
  }

  /**
   * Gives it back.
   * @param states the key of the hash in which the state is noted
   * @param state what is noted of the site; undefined for nothing
   * @returns whether it was still held; otherwise nothing was noted
   */
  async end({ site, hosts, value }: Lease, states: string, state: string | undefined): Promise<boolean> {
    const keys = [this.leaseKey(site), states, ...this.hostKeys(hosts)];
    return (await this.redis.eval(endScript, keys.length, ...keys, site, value, state ?? '')) === 1;
  }

  private leaseKey(site: string): string {
    return `${this.prefix}:lease:${site}`;
  }

  private hostKeys(hosts: readonly string[]): string[] {
    return hosts.map(host => `${this.prefix}:host:${host}`);
  }
}
