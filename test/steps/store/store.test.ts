import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import {
  chmodSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { DamageError, EndError, UsageError } from '../../../src/core/errors.js';
import { storedKey } from '../../../src/core/store/stored-crate.js';
import type { Store } from '../../../src/ends/store/store.js';
import { StandinS3Server } from '../../../src/standins/s3/s3-server.js';
import { openMove } from '../../../src/steps/move/open.js';
import { unlimitedRate } from '../../../src/steps/move/rate-limit.js';
import type { StepRun } from '../../../src/steps/move/step.js';
import { pack } from '../../../src/steps/pack.js';
import { listCrates, removeFrom, storedCrate, verifyStored } from '../../../src/steps/store/crates.js';
import { fetchCrate } from '../../../src/steps/store/fetch-crate.js';
import { storeCrate } from '../../../src/steps/store/store-crate.js';
import { storeOf, userOf } from '../../../src/steps/store/stores.js';
import { standinHost } from '../../help/hosts.js';
import { folder, run as runProgram } from '../../help/program.js';

const passphrase = 'oars ~ and "tides"';
const account = { accessKeyId: 'PORTER', secretAccessKey: 'sécret/+=' };

/** Two move folders, the first with a packed crate, and a store of a kind. */
async function moves(t: TestContext, kind: 's3' | 'sftp' | 'ftp' | 'folder', bytes = 3_000_000) {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const name of ['old/wp-includes', 'new', 'a', 'b']) mkdirSync(at(name), { recursive: true });
  writeFileSync(at('old/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
  writeFileSync(at('old/wp-config.php'), "<?php define('DB_NAME', 'o'); $table_prefix = 'wp_';\n");
  writeFileSync(Buffer.from(`${at('old')}/raw\xff ~ '"`, 'latin1'), 'names are bytes');
  symlinkSync('wp-includes', at('old/link'));
  for (let i = 0; i < 5; i++) writeFileSync(at(`old/file ${i}`), randomBytes(Math.floor((i * bytes) / 10)));
  const server = kind === 's3' ? new StandinS3Server('clubs', account, at('s3')) : undefined;
  const endpoint = await server?.listen();
  t.after(() => server?.close());
  const host = kind === 'sftp' || kind === 'ftp' ? await standinHost(t, at('host'), kind) : undefined;
  const place =
    kind === 's3'
      ? `{ place: s3://clubs/moves, endpoint: "${endpoint}", region: here, part-size: 1 MB }`
      : host
        ? `{ place: ${host.address}/crates, login: ${host.login}, part-size: 1 MB }`
        : '{ place: ../crates, part-size: 1 MB }';
  for (const name of ['a', 'b']) {
    writeFileSync(
      at(name, 'move.yaml'),
      `name: club\nold: { address: https://old.example, files: ../old }\nnew: { address: https://new.example, files: ../new }\ncrate: { passphrase: '${passphrase}', store: ${place} }\n`,
    );
    const env = `AWS_ACCESS_KEY_ID=${account.accessKeyId}\nAWS_SECRET_ACCESS_KEY='${account.secretAccessKey}'\nPW="p'w %é"\n`;
    writeFileSync(at(name, '.env'), env);
    chmodSync(at(name, '.env'), 0o600);
  }
  const open = async (
    name: 'a' | 'b',
    signal = new AbortController().signal,
  ): Promise<StepRun & { store: Store }> => {
    const move = await openMove(at(name, 'move.yaml'), {});
    const store = await storeOf(userOf(move));
    t.after(async () => {
      await store.close();
      await move.accounts.close();
    });
    return { move, store, events: () => {}, signal, rate: unlimitedRate };
  };
  const one = await open('a');
  await pack(one, { byContent: false, note: 'before the\u001b[31m move' });
  const assertSame = () =>
    execFileSync('diff', ['-r', '--no-dereference', at('a/crate'), at('b/crate')], { stdio: 'inherit' });
  return { at, open, one, server, assertSame };
}

const known = async () => passphrase;

async function fetchNewest(run: StepRun & { store: Store }): Promise<void> {
  const found = await storedCrate(run.store, { name: undefined, move: 'club' }, run.signal);
  await fetchCrate(run, run.store, found, known);
}

for (const kind of ['s3', 'sftp', 'ftp', 'folder'] as const) {
  test(`a crate is stored (${kind}), listed, verified, fetched as it was, and removed`, async t => {
    const { one, open, assertSame, at } = await moves(t, kind);
    assert.deepEqual(await listCrates(one.store, one.signal), []);
    const stored = await storeCrate(one, one.store, passphrase);
    assert.ok(stored.parts >= 3 && !stored.wasThere);
    assert.ok(!existsSync(at('a/store')), 'what was sealed is gone from this machine');
    assert.equal((await storeCrate(one, one.store, passphrase)).wasThere, true);
    const [listed, ...others] = await listCrates(one.store, one.signal);
    assert.equal(others.length, 0);
    assert.equal(listed?.name, stored.name);
    assert.equal(listed?.crate?.note, 'before the\u001b[31m move');
    const found = { name: stored.name, crate: listed!.crate! };
    assert.equal((await verifyStored(one, found, known)).parts, stored.parts);
    await assert.rejects(
      verifyStored(one, found, async () => 'another'),
      UsageError,
    );
    const two = await open('b');
    await fetchNewest(two);
    assertSame();
    assert.deepEqual(readdirSync(at('b')).sort(), ['.env', 'crate', 'move.yaml']);
    assert.ok(
      (await removeFrom(one.store, stored.name, { signal: one.signal, move: one.move })) > stored.parts,
    );
    assert.deepEqual(await listCrates(one.store, one.signal), []);
    await assert.rejects(
      removeFrom(one.store, stored.name, { signal: one.signal, move: one.move }),
      UsageError,
    );
    await assert.rejects(fetchNewest(two), UsageError);
  });
}

test('what is at a store is opened with ordinary programs', async t => {
  const { one, at } = await moves(t, 'folder');
  const { name } = await storeCrate(one, one.store, passphrase);
  const { Decrypter } = await import('age-encryption');
  const there = at('crates', name);
  const byPassphrase = new Decrypter();
  byPassphrase.addPassphrase(passphrase);
  const key = await byPassphrase.decrypt(readFileSync(join(there, storedKey)), 'text');
  const byKey = new Decrypter();
  byKey.addIdentity(key.split('\n').find(line => line.startsWith('AGE-'))!);
  const parts = readdirSync(there)
    .filter(file => file.startsWith('crate.tar.'))
    .sort();
  const tar = Buffer.concat(
    await Promise.all(parts.map(file => byKey.decrypt(readFileSync(join(there, file))))),
  );
  mkdirSync(at('by hand'));
  execFileSync('tar', ['x', '-C', at('by hand')], { input: tar });
  execFileSync('cmp', [at('by hand/files/file 4'), at('a/crate/files/file 4')]);
  execFileSync('cmp', [at('by hand/crate.json'), at('a/crate/crate.json')]);
  // Nothing in clear leaves but what the index says.
  const clear = readFileSync(join(there, 'stored.json'), 'utf8');
  assert.ok(!clear.includes('AGE-SECRET') && !clear.includes('wp_'));
  for (const file of parts) assert.ok(!readFileSync(join(there, file)).includes('wp-includes'));
});

test('a store that answers with errors or cuts is asked again, and a stored piece is not sent twice', async t => {
  const { one, open, server, assertSame } = await moves(t, 's3', 60_000_000);
  const faults = ['cut', { status: 503, code: 'SlowDown' }, { status: 500, code: 'InternalError' }] as const;
  let asked = 0;
  // Every fifth request goes wrong.
  server!.fault = () => (++asked % 5 === 0 ? faults[(asked / 5) % 3] : undefined);
  one.move.sheet.crate.store!['part-size'] = '40 MB';
  const ending = new AbortController();
  const sent = new Set<string>();
  const once = {
    ...one,
    signal: ending.signal,
    events: (event: { type: string }) => {
      if (
        event.type === 'progress' &&
        server!.requests.filter(({ query }) => query.has('partNumber')).length >= 4
      )
        ending.abort();
    },
  };
  await assert.rejects(storeCrate(once, one.store, passphrase), { name: 'AbortError' });
  const [unfinished] = await listCrates(one.store, one.signal);
  assert.equal(unfinished?.crate, undefined, 'what is not whole is not shown as a crate');
  for (const upload of server!.held.uploads.values())
    for (const number of upload.pieces.keys()) sent.add(String(number));
  assert.ok(sent.size > 0);
  server!.fault = () => undefined;
  server!.requests.length = 0;
  await storeCrate(one, one.store, passphrase);
  const again = server!.requests.filter(
    ({ query, key }) => key.includes('.001.') && sent.has(query.get('partNumber') ?? ''),
  );
  assert.deepEqual(again, [], 'pieces that are stored were not sent again');
  server!.fault = () => (++asked % 4 === 0 ? 'cut' : undefined);
  await fetchNewest(await open('b'));
  assertSame();
});

test('a passphrase other than that of an interrupted run is refused, and another crate begins anew', async t => {
  const { one, at } = await moves(t, 'folder');
  const ending = new AbortController();
  const interrupted = { ...one, signal: ending.signal, events: () => ending.abort() };
  await assert.rejects(storeCrate(interrupted, one.store, passphrase), { name: 'AbortError' });
  await assert.rejects(storeCrate(one, one.store, 'another'), UsageError);
  writeFileSync(at('old/more'), 'more');
  await pack({ ...one, again: true });
  const { name } = await storeCrate(one, one.store, passphrase);
  const whole = (await listCrates(one.store, one.signal)).filter(({ crate }) => crate);
  assert.deepEqual(
    whole.map(crate => crate.name),
    [name],
  );
});

test('what somebody changed at a store is seen and not used', async t => {
  const { one, open, at } = await moves(t, 'folder');
  const { name } = await storeCrate(one, one.store, passphrase);
  const found = await storedCrate(one.store, { name, move: undefined }, one.signal);
  const file = at('crates', name, 'crate.tar.002.age');
  const right = readFileSync(file);
  const fetch = async () => fetchNewest(await open('b'));
  const bent = Buffer.from(right);
  bent[bent.length - 20]! ^= 1;
  for (const content of [
    bent,
    right.subarray(0, -1),
    Buffer.alloc(0),
    Buffer.concat([right, Buffer.from('x')]),
  ]) {
    writeFileSync(file, content);
    await assert.rejects(verifyStored(one, found, known), DamageError);
    await assert.rejects(fetch(), DamageError);
  }
  // Sealed for the same key by somebody who knows it, but not what was stored.
  writeFileSync(file, readFileSync(at('crates', name, 'crate.tar.001.age')));
  await assert.rejects(fetch(), DamageError);
  writeFileSync(file, right);
  await verifyStored(one, found, known);
  await fetch();
});

test('a wrong key, a bucket that is not there and a service that is down are told apart', async t => {
  const { one, server } = await moves(t, 's3');
  const { accounts } = one.move;
  const tried = async (change: object, place?: string) => {
    const crate = { passphrase, store: { ...one.move.sheet.crate.store!, ...change } };
    const store = await storeOf(
      { accounts, crate: crate as never, secrets: one.move.folder.at('.env') },
      place,
    );
    await listCrates(store, one.signal).finally(() => store.close());
  };
  await tried({});
  await assert.rejects(tried({}, 's3://others'), /there is no such bucket/);
  await assert.rejects(tried({}, 's3://NO'), UsageError);
  writeFileSync(one.move.folder.at('.env'), 'AWS_ACCESS_KEY_ID=PORTER\nAWS_SECRET_ACCESS_KEY=wrong\n');
  await assert.rejects(
    tried({}),
    (error: Error) => error instanceof EndError && error.kind === 'credentials',
  );
  await server!.close();
  await assert.rejects(tried({}), { kind: 'unreachable' });
});

test('the program stores, lists without a sheet, delivers from the store, and removes', async t => {
  const { at, server } = await moves(t, 's3');
  const run = (args: string[], cwd: 'a' | 'b') => runProgram(args, { cwd: at(cwd) });
  const packed = await run(['pack', '--store', '--note', 'for the new host'], 'a');
  assert.equal(packed.code, 0, packed.stderr);
  assert.match(
    packed.stdout,
    /stored as club-\d{8}T\d{6}Z at s3:\/\/clubs\/moves \(\d+ parts, .*encrypted\)/,
  );
  const listed = await run(['crates'], 'a');
  assert.match(listed.stdout, /1 crate at s3:\/\/clubs\/moves[\s\S]*for the new host/);
  const verified = await run(['crates', 'verify'], 'b');
  assert.match(verified.stdout, /The crate is whole/);
  const delivered = await run(['deliver', '--crate', 's3://clubs/moves', '--yes'], 'b');
  assert.equal(delivered.code, 0, delivered.stderr);
  execFileSync('cmp', [at('old/file 4'), at('new/file 4')]);
  const name = /club-\d{8}T\d{6}Z/.exec(packed.stdout)![0];
  assert.equal((await run(['crates', 'remove', name], 'a')).code, 2, 'it asks first');
  assert.equal((await run(['crates', 'remove', name, '--yes'], 'a')).code, 0);
  assert.equal(server!.held.objects.size, 0);
  const seen = [packed, listed, verified, delivered].map(({ stdout, stderr }) => stdout + stderr).join('');
  assert.ok(
    !seen.includes('AGE-SECRET') && !seen.includes(passphrase) && !seen.includes(account.secretAccessKey),
  );
  const journal = readFileSync(at('a/journal.ndjson'), 'utf8');
  assert.ok(!journal.includes(passphrase) && !journal.includes(account.secretAccessKey));
});
