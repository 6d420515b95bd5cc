import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, statSync, truncateSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { StandinS3Server } from '../../src/standins/s3/s3-server.js';
import { openMove } from '../../src/steps/move/open.js';
import { unlimitedRate } from '../../src/steps/move/rate-limit.js';
import { pack } from '../../src/steps/pack.js';
import { listCrates } from '../../src/steps/store/crates.js';
import { storeOf, userOf } from '../../src/steps/store/stores.js';
import { effort } from '../help/effort.js';
import { folder, type Ran, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { account, realS3 } from './s3-service.js';

/** By hand: 5000 and 20. */
const megabytes = Number(process.env.ABLE_PORTER_STORE_MB ?? effort(40, 300));
const byHand = process.env.ABLE_PORTER_STORE_KILLS;

/** Two moves with one store; the crate of the first is large and sparse. */
async function moves(t: TestContext, root: string, endpoint: string) {
  const at = (...parts: string[]) => join(root, ...parts);
  for (const name of ['old', 'new', 'a', 'b']) mkdirSync(at(name));
  writeFileSync(at('old/index.html'), 'club');
  writeFileSync(at('old/regatta.tif'), '');
  truncateSync(at('old/regatta.tif'), megabytes * 1_000_000);
  for (const name of ['a', 'b'])
    writeFileSync(
      at(name, 'move.yaml'),
      `name: club\nold: { address: https://old.example, files: ../old }\nnew: { address: https://new.example, files: ../new }\ncrate: { passphrase: tides, store: { place: s3://clubs/moves, endpoint: "${endpoint}", region: here, part-size: 16 MB } }\n`,
    );
  const signal = new AbortController().signal;
  const move = await openMove(at('a/move.yaml'), {});
  await pack({ move, events: () => {}, signal, rate: unlimitedRate });
  process.env.AWS_ACCESS_KEY_ID = account.accessKeyId;
  process.env.AWS_SECRET_ACCESS_KEY = account.secretAccessKey;
  const env = { AWS_ACCESS_KEY_ID: account.accessKeyId, AWS_SECRET_ACCESS_KEY: account.secretAccessKey };
  const go = (args: string[], cwd: string, more: object = {}) =>
    run([...args, '--yes', '--json-events'], { cwd: at(cwd), env, ...more });
  const store = await storeOf(userOf(move));
  t.after(() => store.close());
  return { at, go, listed: () => listCrates(store, signal) };
}

/** Runs a command again and again, killing it each time when it is a bit further; then lets it end. */
async function killedOften(go: (more: object) => Promise<Ran>, all: number, kills: number): Promise<Ran> {
  for (let i = 1; i <= kills; i++) {
    let kill = () => {};
    const killed = await go({
      onStart: (end: () => void) => {
        kill = end;
      },
      onOutput: (text: string) => {
        for (const [, done] of text.matchAll(/"done":(\d+)/g))
          if (Number(done) >= (all * i) / (kills + 1)) kill();
      },
    });
    assert.equal(killed.code, null, `it was killed: ${killed.stderr}${killed.stdout.slice(-500)}`);
  }
  return go({});
}

async function testStore(t: TestContext, root: string, endpoint: string, kills: number): Promise<void> {
  const { at, go, listed } = await moves(t, root, endpoint);
  const all = megabytes * 1_000_000;
  const stored = await killedOften(more => go(['pack', '--store'], 'a', more), all, kills);
  assert.equal(stored.code, 0, stored.stderr);
  const [crate] = await listed();
  assert.ok(crate!.bytes > all && crate!.bytes < all * 1.01, `${crate!.bytes} bytes are stored`);
  const verified = await go(['crates', 'verify'], 'a');
  assert.equal(verified.code, 0, verified.stderr);
  const fetched = await killedOften(
    more => go(['deliver', '--crate', 's3://clubs/moves'], 'b', more),
    all,
    Math.ceil(kills / 4),
  );
  assert.equal(fetched.code, 0, fetched.stderr);
  execFileSync('cmp', [at('old/regatta.tif'), at('new/regatta.tif')]);
  assert.equal(statSync(at('new/regatta.tif')).size, all);
  assert.ok(!readdirSync(at('b')).includes('fetch') && !readdirSync(at('a')).includes('store'));
}

test('a large crate comes to a simulated service and back, though runs are killed', async t => {
  const kills = Number(byHand ?? effort(4, 20));
  const root = folder(t);
  const server = new StandinS3Server('clubs', account, join(root, 's3'));
  const endpoint = await server.listen();
  t.after(() => server.close());
  await testStore(t, root, endpoint, kills);
  const pieces = server.requests.filter(({ method, query }) => method === 'PUT' && query.has('partNumber'));
  // A killed run can lose the four pieces that are under way, and the one or two parts that nobody has noted yet.
  const least = (megabytes * 1_000_000) / (8 * 1024 * 1024);
  assert.ok(
    pieces.length <= least * 1.3 + kills * 8,
    `${pieces.length} pieces were sent for ${Math.ceil(least)}`,
  );
  assert.equal(server.held.uploads.size, 0);
});

test('a large crate comes to a real service and back, though runs are killed', async t => {
  if (!needs(t, 'memcached', 'python3')) return;
  const root = folder(t);
  await testStore(t, root, await realS3(t, root, 'clubs'), Number(byHand ?? 4));
});
