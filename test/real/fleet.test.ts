import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { setTimeout } from 'node:timers/promises';
import { effort } from '../help/effort.js';
import { makeFleet, siteName } from '../help/fleet.js';
import { type Host, standinHost } from '../help/hosts.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, installCms, passwords } from './cms.js';
import { databaseForTests, until } from './database.js';
import { OwnWorker, sitesOf } from './fleet-workers.js';
import { OwnRedis } from './redis.js';
import { ownSsh } from './ssh.js';

const started = databaseForTests();
const perHost = 2;

/** When sites were written to at a host. */
class Windows {
  private readonly seen = new Map<string, { first: number; last: number }>();

  watch({ misbehaviour }: Host): void {
    misbehaviour.forbids = path => {
      const site = /^\/[^/]*(club-\d\d)/.exec(path)?.[1] ?? /club-\d\d/.exec(path)?.[0];
      const now = Date.now();
      if (site) this.seen.set(site, { first: this.seen.get(site)?.first ?? now, last: now });
      return false;
    };
  }

  /** How many sites were under way at once at the most. */
  get most(): number {
    const all = [...this.seen.values()];
    return Math.max(
      0,
      ...all.map(({ first }) => all.filter(one => one.first <= first && one.last >= first).length),
    );
  }

  get sites(): number {
    return this.seen.size;
  }
}

/** A fleet between pairs of stand-in hosts. */
async function standinFleet(t: TestContext, root: string, sites: number) {
  const pairs = await Promise.all(
    [0, 1, 2].map(async i => ({
      old: await standinHost(t, join(root, 'old'), i === 2 ? 'ftp' : 'sftp with a shell'),
      new: await standinHost(t, join(root, `new-${i}`), i === 1 ? 'ftp' : 'sftp'),
      windows: new Windows(),
    })),
  );
  for (const pair of pairs) pair.windows.watch(pair.new);
  // The stand-ins' keys are not known to this machine: they are in the table, as a person would copy them from a panel.
  const cwd = await makeFleet(root, sites, i => {
    const { old, new: next } = pairs[i % 3]!;
    return { old: { place: `${old.address}` }, new: { place: next.address } };
  });
  const table = join(cwd, 'sites.csv');
  const keyOf = ({ login }: Host) => /SHA256:[^"]+/.exec(login)?.[0] ?? '';
  const lines = readFileSync(table, 'utf8').trim().split('\n');
  const rows = lines.map((line, i) => {
    const { old, new: next } = pairs[i % 3]!;
    return i === 0 ? `${line};old key;new key` : `${line};${keyOf(old)};${keyOf(next)}`;
  });
  writeFileSync(table, `${rows.join('\n')}\n`);
  const yaml = join(cwd, 'fleet.yaml');
  const login = (end: string) => `"login":{"password":"\${PW}","host-key":"{${end} key}"}`;
  writeFileSync(
    yaml,
    readFileSync(yaml, 'utf8')
      .replace('"files":"{old files}"', `"files":"{old files}",${login('old')}`)
      .replace('"files":"{new files}"', `"files":"{new files}",${login('new')}`),
  );
  return { cwd, windows: pairs.map(one => one.windows) };
}

/** Each site was put at its new end once, and is equal by check. */
function assertMovedOnce(cwd: string, names: readonly string[]): void {
  for (const name of names) {
    const journal = readFileSync(join(cwd, 'moves', name, 'journal.ndjson'), 'utf8')
      .trim()
      .split('\n');
    const records = journal.map(line => JSON.parse(line) as { step: string; event: string });
    const count = (step: string, event: string) =>
      records.filter(one => one.step === step && one.event === event).length;
    assert.equal(count('deliver', 'done'), 1, `${name} was delivered once`);
    const { result } = JSON.parse(readFileSync(join(cwd, 'moves', name, 'results/check.json'), 'utf8'));
    assert.deepEqual([result.files.missing, result.files.different], [[], []], name);
    assert.ok(result.files.equal > 5, name);
    assert.ok(result.tables.length > 5 && result.tables.every((one: { equal: boolean }) => one.equal), name);
  }
}

/** A worker in the middle of a site, as soon as something is so. */
async function workingOf(workers: readonly OwnWorker[], so: () => boolean): Promise<OwnWorker> {
  let found: OwnWorker | undefined;
  await until('a worker at work', () => {
    found = so() ? workers.find(one => one.isWorking) : undefined;
    return found !== undefined;
  });
  return found!;
}

const names = (sites: number) => Array.from({ length: sites }, (_, i) => siteName(i + 1));

test('a fleet moves on this machine, and no host has more sites at once than it may', {
  timeout: 1_200_000,
}, async t => {
  const sites = effort(6, 60);
  const root = folder(t);
  const { cwd, windows } = await standinFleet(t, root, sites);
  const went = await run(
    ['fleet', 'go', '--yes', '--json-events', '--at-once', '5', '--per-host', String(perHost)],
    { cwd },
  );
  assert.equal(went.code, 0, JSON.stringify(sitesOf(went).slice(0, 2)) + went.stderr);
  assert.equal(sitesOf(went).length, sites);
  assertMovedOnce(cwd, names(sites));
  for (const one of windows)
    assert.ok(one.most <= perHost && one.sites > 1, `${one.most} at once, ${one.sites} sites`);
});

test('a fleet moves by three workers at a queue: one is killed, one stands still, the queue is killed', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, 'redis-server', 'ps')) return;
  const sites = effort(6, 60);
  const root = folder(t);
  const { cwd, windows } = await standinFleet(t, root, sites);
  const redis = await OwnRedis.start(t, root);
  const workers = [1, 2, 3].map(() => new OwnWorker(t, cwd, redis.url, { atOnce: 2, perHost }));
  let watched = '';
  const going = run(['fleet', 'go', '--yes', '--json-events', '--queue', redis.url], {
    cwd,
    onOutput: text => {
      watched += text;
    },
  });
  const ended = () => watched.split('"state":"ended"').length - 1;
  await (await workingOf(workers, () => ended() >= 1)).end('SIGKILL');
  const still = await workingOf(workers, () => ended() >= 2);
  still.signal('SIGSTOP');
  await redis.kill();
  await setTimeout(1000);
  await redis.start();
  // Longer than a worker is waited for.
  await setTimeout(20_000);
  still.signal('SIGCONT');
  const went = await going;
  assert.equal(went.code, 0, JSON.stringify(sitesOf(went).slice(0, 3)) + went.stderr);
  assert.equal(sitesOf(went).filter(({ outcome }) => outcome?.state === 'done').length, sites);
  assertMovedOnce(cwd, names(sites));
  for (const one of windows) assert.ok(one.most <= perHost, `${one.most} at once`);
  const used = new Set([...watched.matchAll(/"worker":"([^"]+)"/g)].map(([, worker]) => worker));
  assert.ok(used.size >= 2, 'more than one worker had a part in it');
  const held = `${await redis.all()}${watched}${workers.map(({ said }) => said).join('')}`;
  assert.ok(held.includes('club-01'), 'something was looked through');
  assert.ok(!held.includes('secret of the tide') && !held.includes("p'w"), 'no secret is held or shown');
});

test('real sites of the CMS move as a fleet, over SSH and with a real database, and are equal', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, 'sshd', 'redis-server')) return;
  const sites = effort(2, 6);
  const root = folder(t);
  const database = started();
  const ssh = await ownSsh(t, root, false, 40);
  const all = names(sites);
  const rows = all.map((name, i) => {
    const [old, next] = [`fleet_old_${i}`, `fleet_new_${i}`];
    database.sql(
      `CREATE DATABASE ${old} CHARACTER SET utf8mb4; CREATE DATABASE ${next} CHARACTER SET utf8mb4;`,
    );
    for (const [user, name_, password] of [
      ['old', old, passwords.old],
      ['new', next, passwords.new],
    ] as const)
      database.sql(
        `CREATE USER IF NOT EXISTS '${user}'@'localhost' IDENTIFIED BY '${password.replace(/[\\']/g, '\\$&')}'; GRANT ALL ON ${name_}.* TO '${user}'@'localhost';`,
      );
    installCms(database, join(root, 'old', name), `https://${name}.oldhost.example`, old);
    return { name, address: `https://${name}.oldhost.example`, database: next };
  });
  const place = `sftp://${ssh.user}@127.0.0.1:${ssh.port}${root}`;
  const cwd = join(root, 'fleet');
  execFileSync('mkdir', [cwd, join(root, 'new')]);
  const login = { key: ssh.key, 'host-key': ssh.fingerprint };
  writeFileSync(
    join(cwd, 'fleet.yaml'),
    JSON.stringify({
      name: 'real',
      sites: rows,
      template: {
        old: {
          address: '{address}',
          files: `${place}/old/{name}`,
          login,
          database: { from: 'configuration' },
        },
        new: {
          address: 'https://{name}.example',
          files: `${place}/new/{name}`,
          login,
          database: {
            server: `mysql://new@127.0.0.1:${database.port}/{database}`,
            password: '${PW}',
            prefix: 'row_',
            through: 'files',
          },
        },
      },
    }),
  );
  writeFileSync(join(cwd, '.env'), `PW=\`${passwords.new}\`\n`, { mode: 0o600 });
  const options = ['--key', ssh.key, '--host-key', ssh.fingerprint, '--json'];
  const found = await run(['fleet', 'find', `${place}/old`, ...options], { cwd });
  assert.deepEqual(
    (
      JSON.parse(found.stdout) as { address: string; database: string; prefix: string; unknown?: string }[]
    ).map(({ address, database: of, prefix, unknown }) => [address, of, prefix, unknown]),
    rows.map(({ address }, i) => [address, `fleet_old_${i}`, 'sr4_', undefined]),
    found.stderr,
  );
  const half = Math.ceil(sites / 2);
  const first = await run(
    [
      'fleet',
      'go',
      '--yes',
      '--json-events',
      '--at-once',
      '2',
      ...all.slice(0, half).flatMap(name => ['--only', name]),
    ],
    { cwd },
  );
  assert.equal(first.code, 0, JSON.stringify(sitesOf(first).slice(0, 2)) + first.stderr);
  const redis = await OwnRedis.start(t, root);
  const workers = [1, 2, 3].map(() => new OwnWorker(t, cwd, redis.url, { atOnce: 1, perHost }));
  let watched = '';
  const going = run(['fleet', 'go', '--yes', '--json-events', '--queue', redis.url], {
    cwd,
    onOutput: text => {
      watched += text;
    },
  });
  await (await workingOf(workers, () => /"step":"(?:rewrite|deliver)"/.test(watched))).end('SIGKILL');
  const went = await going;
  assert.equal(went.code, 0, JSON.stringify(sitesOf(went).slice(0, 2)) + went.stderr);
  assertMovedOnce(cwd, all);
  assert.ok(!(await redis.all()).includes(passwords.new));
  for (const [i, name] of all.entries())
    assert.equal(
      database
        .sql("SELECT option_value FROM row_options WHERE option_name = 'home'", `fleet_new_${i}`)
        .trim(),
      `https://${name}.example`,
    );
});
