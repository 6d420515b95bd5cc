import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { appendFileSync, cpSync, existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { StandinS3Server } from '../../src/standins/s3/s3-server.js';
import { makeFleet, siteName } from '../help/fleet.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { until } from './database.js';
import { OwnWorker, sitesOf } from './fleet-workers.js';
import { OwnRedis } from './redis.js';

const limits = { atOnce: 1, perHost: 4 };
const sites = 4;

/** Machines that share no folder: each has the fleet in one of its own. */
async function machines(t: TestContext, more: string) {
  const root = folder(t);
  const cwd = await makeFleet(root, sites, undefined, more);
  appendFileSync(
    join(cwd, '.env'),
    "FLEET_PASSPHRASE='feather'\nAWS_ACCESS_KEY_ID=P\nAWS_SECRET_ACCESS_KEY=tide\n",
  );
  const folders = ['a', 'b'].map(name => {
    cpSync(cwd, join(root, name), { recursive: true });
    return join(root, name);
  });
  const redis = await OwnRedis.start(t, root);
  let watched = '';
  const go = () =>
    run(['fleet', 'go', '--yes', '--json-events', '--queue', redis.url], {
      cwd,
      onOutput: text => {
        watched += text;
      },
    });
  const assertMoved = () => {
    for (let i = 1; i <= sites; i++)
      for (const path of ['index.php', 'wp-includes/version.php'])
        execFileSync('cmp', [join(root, 'old', siteName(i), path), join(root, 'new', siteName(i), path)]);
  };
  return { root, folders, redis, go, assertMoved, watched: () => watched };
}

/** Waits until a worker is in the middle of a delivery, and kills it. */
async function killInDelivery(worker: OwnWorker): Promise<void> {
  await until('a delivery', () => /"step":"(?:deliver|check)"/.test(worker.said));
  await worker.end('SIGKILL');
}

test('a site whose move folder only one machine has waits for that one, and is shown waiting', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'redis-server', 'ps')) return;
  const { folders, redis, go, assertMoved, watched } = await machines(t, '');
  const [a, b] = folders.map(cwd => new OwnWorker(t, cwd, redis.url, limits)) as [OwnWorker, OwnWorker];
  const going = go();
  await killInDelivery(a);
  await until('a site that waits', () =>
    /waits: for worker [^ ]+, which has its move folder/.test(watched()),
  );
  await until('the others', () => watched().split('"state":"ended"').length - 1 >= sites - 1);
  assert.ok(b.said.includes('"ended"'));
  new OwnWorker(t, folders[0]!, redis.url, limits);
  const went = await going;
  assert.equal(went.code, 0, JSON.stringify(sitesOf(went).slice(0, 2)));
  assertMoved();
});

test('a site whose machine is gone for good is begun anew by another, when a person says so', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'redis-server', 'ps')) return;
  const { folders, redis, go, assertMoved, watched } = await machines(t, '');
  const a = new OwnWorker(t, folders[0]!, redis.url, limits);
  const going = go();
  await killInDelivery(a);
  const b = new OwnWorker(t, folders[1]!, redis.url, limits);
  await until('a site that waits', () => /which has its move folder/.test(watched()));
  await b.end('SIGTERM');
  const adopt = async (name: string) =>
    run(['fleet', 'work', '--queue', redis.url, '--adopt', name], { cwd: folders[1]! });
  assert.equal((await adopt('nobody')).code, 2);
  const [, held] = /"site":"([^"]+)"[^}]*which has its move folder/.exec(watched())!;
  new OwnWorker(t, folders[1]!, redis.url, { ...limits, adopt: held! });
  const went = await going;
  assert.equal(went.code, 0, JSON.stringify(sitesOf(went).slice(0, 2)));
  assertMoved();
  assert.ok(existsSync(join(folders[1]!, 'moves', held!, 'journal.ndjson')));
});

test('a queue that is away is reported, and whoever is to end does not wait for it', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'redis-server', 'ps')) return;
  const { root, folders, redis } = await machines(t, '');
  const worker = new OwnWorker(t, folders[0]!, redis.url, limits);
  let watched = '';
  const going = run(['fleet', 'go', '--yes', '--queue', redis.url], {
    cwd: join(root, 'fleet'),
    onOutput: text => {
      watched += text;
    },
    interruptWhen: () => watched.includes('does not answer; waiting for it'),
  });
  await until('a site at work', () => worker.isWorking);
  await redis.kill();
  const went = await going;
  assert.equal(went.code, 130);
  assert.match(watched, /what waits there is begun by workers once it does/);
  await worker.end('SIGTERM');
  assert.match(worker.said, /does not answer; waiting[\s\S]*gives the sites to others/);
  assert.deepEqual(worker.children(), []);
});

test('move folders that are kept at a store are resumed on another machine', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'redis-server', 'ps')) return;
  const s3Root = folder(t);
  const server = new StandinS3Server('fleet', { accessKeyId: 'P', secretAccessKey: 'tide' }, s3Root);
  const endpoint = await server.listen();
  t.after(() => server.close());
  const { root, folders, redis, go, assertMoved, watched } = await machines(
    t,
    `keep: { place: "s3://fleet/moves", endpoint: "${endpoint}", region: here }\n`,
  );
  const a = new OwnWorker(t, folders[0]!, redis.url, limits);
  const going = go();
  await killInDelivery(a);
  const begun = readdirSync(join(folders[0]!, 'moves')).filter(name =>
    existsSync(join(folders[0]!, 'moves', name, 'journal.ndjson')),
  );
  assert.ok(begun.length > 0);
  new OwnWorker(t, folders[1]!, redis.url, limits);
  const went = await going;
  assert.equal(went.code, 0, JSON.stringify(sitesOf(went).slice(0, 2)));
  assertMoved();
  // The other machine has what this one had noted, and went on from there.
  const lines = (at: string) =>
    readFileSync(join(at, 'moves', begun.at(-1)!, 'journal.ndjson'), 'utf8').split('\n');
  const there = lines(folders[1]!);
  const deeds = lines(folders[0]!).filter(line => line.includes('"event":"did"'));
  const last = deeds.at(-1);
  if (last !== undefined) assert.ok(there.includes(last), 'the last deed is known');
  assert.ok(!watched().includes('waits: for worker'));
  // One copy of each is kept, and nothing of it in clear.
  const kept = new Set([...server.held.objects.keys()].map(key => key.split('/')[1]));
  assert.equal(kept.size, sites);
  const clear = execFileSync(
    'grep',
    ['-rlE', 'able-porter|wp_|wordpress|secret of the tide', s3Root, join(root, 'redis')],
    {
      encoding: 'utf8',
    },
  ).trim();
  assert.ok(
    clear.split('\n').every(file => file.includes('/redis/')),
    clear,
  );
  assert.ok(!(await redis.all()).includes('secret of the tide'));
});

test('what was taken back is done again by workers, whatever an earlier run has noted', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'redis-server', 'ps')) return;
  for (const more of ['moves: ../shared\n', '']) await takenBack(t, more);
});

async function takenBack(t: TestContext, more: string): Promise<void> {
  const { root, folders, redis, go, assertMoved } = await machines(t, more);
  for (const cwd of folders) new OwnWorker(t, cwd, redis.url, limits);
  assert.equal((await go()).code, 0);
  const status = await run(['fleet', 'status', '--json'], { cwd: join(root, 'fleet') });
  assert.deepEqual(
    (JSON.parse(status.stdout) as { state: string }[]).map(({ state }) => state),
    Array.from({ length: sites }, () => 'done'),
  );
  const undone = await run(['fleet', 'undo', '--yes', '--queue', redis.url, '--only', siteName(2)], {
    cwd: join(root, 'fleet'),
  });
  assert.equal(undone.code, 0, undone.stderr);
  assert.ok(!existsSync(join(root, 'new', siteName(2))));
  const again = await go();
  assert.equal(again.code, 0);
  assert.deepEqual(
    sitesOf(again)
      .filter(({ state }) => state === 'ended')
      .map(({ site }) => site),
    [siteName(2)],
  );
  assertMoved();
}
