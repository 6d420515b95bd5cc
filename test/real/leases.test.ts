import assert from 'node:assert/strict';
import { test } from 'node:test';
import { setTimeout } from 'node:timers/promises';
import { Redis } from 'ioredis';
import { type Lease, Leases } from '../../src/ends/queue/leases.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { OwnRedis } from './redis.js';

test('a site has one worker, a host so many sites, and whoever lost a lease notes nothing more', async t => {
  if (!needs(t, 'redis-server')) return;
  const server = await OwnRedis.start(t, folder(t));
  const redis = new Redis(server.url);
  t.after(() => redis.disconnect());
  const leases = new Leases(redis, 'test', 1500);
  const site = (name: string, ...hosts: string[]) => ({ site: name, hosts });
  const take = async (name: string, ...hosts: string[]) => leases.take(site(name, ...hosts), `w-${name}`, 2);
  const first = (await take('a', 'old', 'new')) as Lease;
  assert.ok(first.fence > 0);
  assert.deepEqual(await leases.take(site('a', 'old'), 'other', 2), { why: 'held', who: 'w-a' });
  assert.ok('fence' in (await take('b', 'old')));
  assert.deepEqual(await take('c', 'free', 'old'), { why: 'host', who: 'old' });
  assert.ok('fence' in (await take('c', 'free')), 'what could not begin holds no host');
  // Renewed, it is held longer than it would be.
  for (let i = 0; i < 4; i++) {
    await setTimeout(500);
    assert.equal(await leases.renew(first), true);
  }
  await setTimeout(2000);
  assert.equal(await leases.holder('a'), undefined);
  const second = (await take('a', 'old', 'new')) as Lease;
  assert.ok(second.fence > first.fence);
  assert.equal(await leases.renew(first), false);
  assert.equal(await leases.holder('a'), 'w-a');
  await leases.note(first, 'states', 'late');
  assert.equal(await leases.end(first, 'states', 'late'), false);
  assert.equal(await redis.hget('states', 'a'), null);
  await leases.note(second, 'states', 'running');
  assert.equal(await leases.end(second, 'states', '{"state":"ended"}'), true);
  await leases.noteWaiting('a', 'states', 'waiting', '{"state":"ended"');
  assert.equal(await redis.hget('states', 'a'), '{"state":"ended"}');
  // What it held is free again, and its number is not used twice, whatever the clock says.
  await redis.hset('test:fences', 'a', String(Date.now() + 1e9));
  const third = (await take('a', 'old', 'new')) as Lease;
  assert.ok(third.fence > Date.now() + 9e8);
});
