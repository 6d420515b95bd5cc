import assert from 'node:assert/strict';
import { execFileSync, spawnSync } from 'node:child_process';
import { cpSync, existsSync, readdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { parse } from 'csv-parse/sync';
import { PartWayError, UsageError } from '../../../src/core/errors.js';
import type { SiteProgress } from '../../../src/core/fleet/outcome.js';
import { MoveFolder } from '../../../src/ends/move-folder/move-folder.js';
import { makeFleet, siteName } from '../../help/fleet.js';
import { standinHost } from '../../help/hosts.js';
import { folder, program, run } from '../../help/program.js';
import { until } from '../../real/database.js';

interface Shown {
  readonly sites: readonly SiteProgress[];
  readonly count: Readonly<Record<string, number>>;
}

/** Runs a command of a fleet; gives its result. */
async function fleet(
  cwd: string,
  ...args: string[]
): Promise<Shown & { code: number | null; stderr: string }> {
  const { code, stdout, stderr } = await run(['fleet', ...args, '--yes', '--json'], { cwd });
  return { ...(JSON.parse(stdout || '{}') as Shown), code, stderr };
}

const events = (cwd: string, name: string) =>
  readFileSync(join(cwd, 'moves', name, 'journal.ndjson'), 'utf8')
    .trim()
    .split('\n')
    .map(line => JSON.parse(line) as { step: string; event: string });

/** How often a site was put at its new end. */
const deliveries = (cwd: string, name: string) =>
  events(cwd, name).filter(({ step, event }) => step === 'deliver' && event === 'done').length;

test('a fleet moves; the trouble of one site stops no other, and only what is not done is done again', async t => {
  const root = folder(t);
  const cwd = await makeFleet(root, 5);
  const configuration = join(root, 'old', siteName(2), 'wp-config.php');
  renameSync(configuration, `${configuration}.away`);
  rmSync(join(root, 'old', siteName(3)), { recursive: true });
  const first = await fleet(cwd, 'go', '--at-once', '3');
  assert.equal(first.code, 5);
  assert.deepEqual(first.count, { done: 3, stopped: 1, failed: 1, interrupted: 0, running: 0, waiting: 0 });
  // The worst first, each with what to do.
  assert.deepEqual(
    first.sites.slice(0, 2).map(({ site, outcome }) => [site, outcome?.state]),
    [
      [siteName(3), 'failed'],
      [siteName(2), 'stopped'],
    ],
  );
  assert.match(first.sites[0]!.outcome!.why!, /it is not there\n→ /);
  assert.match(first.sites[1]!.outcome!.why!, /configuration/);
  const status = await run(['fleet', 'status'], { cwd });
  assert.match(status.stdout, /club-03 +failed[\s\S]*club-02 +stopped[\s\S]*club-01 +done/);

  renameSync(`${configuration}.away`, configuration);
  const second = await fleet(cwd, 'go');
  assert.equal(second.code, 5);
  assert.deepEqual(
    second.sites.filter(({ state }) => state === 'ended').map(({ site }) => site),
    [siteName(3), siteName(2)],
  );
  assert.equal(deliveries(cwd, siteName(1)), 1);
  // What was taken back is done again, and so is a site whose sheet changed; nothing else.
  await fleet(cwd, 'undo', '--only', siteName(1));
  assert.ok(!existsSync(join(root, 'new', siteName(1))));
  const yaml = join(cwd, 'sites.csv');
  writeFileSync(
    yaml,
    readFileSync(yaml, 'utf8').replace('https://club-04.example', 'https://club-04.example/blog'),
  );
  const third = await fleet(cwd, 'go', '--only', siteName(1), '--only', siteName(2), '--only', siteName(4));
  assert.equal(third.code, 0, third.stderr);
  assert.deepEqual(
    third.sites.filter(({ state }) => state === 'done before').map(({ site }) => site),
    [siteName(2)],
  );
  assert.deepEqual(
    [1, 2, 4, 5].map(i => deliveries(cwd, siteName(i))),
    [2, 1, 2, 1],
  );
  for (const i of [1, 2, 4, 5])
    execFileSync('cmp', [
      join(root, 'old', siteName(i), 'index.php'),
      join(root, 'new', siteName(i), 'index.php'),
    ]);
  // What is done again on one says nothing of the others.
  await fleet(cwd, 'go', '--again', '--only', siteName(5));
  const fourth = await fleet(cwd, 'go', '--only', siteName(1), '--only', siteName(4), '--only', siteName(5));
  assert.ok(fourth.sites.every(({ state }) => state === 'done before'));
  assert.equal((await fleet(cwd, 'go', '--only', 'nobody')).code, 2);
  // What follows -- is for the command of each site.
  const odd = await run(['fleet', 'survey', '--only', siteName(1), '--', '--nope'], { cwd });
  assert.match(odd.stdout, /Unknown argument: nope/);
});

test('a fleet that is killed takes its processes with it, and the next run resumes each site once', async t => {
  const root = folder(t);
  const cwd = await makeFleet(root, 6);
  let ended = 0;
  let kill = () => {};
  await run(['fleet', 'go', '--yes', '--json-events', '--at-once', '2'], {
    cwd,
    onStart: end => {
      kill = end;
    },
    onOutput: text => {
      ended += text.split('"state":"ended"').length - 1;
      if (ended >= 2) kill();
    },
  });
  // Nobody goes on with what nobody watches.
  const isRunning = () => {
    const all = execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' }).split('\n');
    return all.some(line => line.includes(program) && line.includes(cwd));
  };
  await until('the end of the processes of the sites', () => !isRunning());
  const again = await fleet(cwd, 'go');
  assert.equal(again.code, 0, again.stderr);
  assert.equal(again.count.done, 6);
  for (let i = 1; i <= 6; i++) assert.equal(deliveries(cwd, siteName(i)), 1, siteName(i));
});

test('no secret of a fleet is written down', async t => {
  const cwd = await makeFleet(folder(t), 2);
  const shown = await run(['fleet', 'go', '--yes', '--json-events'], { cwd });
  assert.equal(shown.code, 0);
  const { status } = spawnSync('grep', ['-rl', 'secret of the tide', join(cwd, 'moves')]);
  assert.equal(status, 1, 'nothing in the move folders holds one');
  assert.ok(!`${shown.stdout}${shown.stderr}`.includes('secret of the tide'));
});

test('sheets that are there are a fleet too, each in its own folder', async t => {
  const root = folder(t);
  const cwd = await makeFleet(root, 2);
  await fleet(cwd, 'survey');
  const own = join(cwd, 'own.yaml');
  writeFileSync(own, 'name: clubs\nsheets: moves\n');
  const { code, sites } = await fleet(cwd, 'survey', '--fleet', own);
  assert.equal(code, 0);
  assert.deepEqual(sites.map(({ site }) => site).sort(), [siteName(1), siteName(2)]);
  const sheet = join(cwd, 'moves', siteName(1), 'move.yaml');
  writeFileSync(sheet, readFileSync(sheet, 'utf8').replace('# Made', '# Written'));
  const refused = await run(['fleet', 'survey'], { cwd });
  assert.equal(refused.code, 2);
  assert.match(refused.stderr, /somebody wrote this sheet by hand/);
});

test('find writes the table of what is there, with what each site says of itself', async t => {
  const root = folder(t);
  const cwd = await makeFleet(root, 3);
  const table = join(cwd, 'found.csv');
  const found = await run(['fleet', 'find', join(root, 'old'), '--out', table], { cwd });
  assert.equal(found.code, 0, found.stderr);
  assert.match(found.stdout, /3 sites recognised/);
  const rows = parse(readFileSync(table, 'utf8'), { columns: true }) as Record<string, string>[];
  assert.deepEqual(
    rows.map(({ family, database, prefix, folder: at }) => [family, database, prefix, at]),
    [1, 2, 3].map(i => ['wordpress', siteName(i), `c${i}_`, join(root, 'old', siteName(i))]),
  );
  assert.ok(rows.every(({ bytes }) => Number(bytes) > 10_000));
  assert.equal(
    (await run(['fleet', 'find', join(root, 'old'), '--out', table], { cwd })).code,
    2,
    'it is not replaced',
  );
});

test('what a site says is text, also where it looks like a variable', async t => {
  const root = folder(t);
  const cwd = await makeFleet(root, 1);
  const odd = join(root, 'old', 'the ${DB_CLUB_01} of $$');
  renameSync(join(root, 'old', siteName(1)), odd);
  const configuration = join(odd, 'wp-config.php');
  const address = "define('WP_HOME', 'https://${DB_CLUB_01}.club.example');\n";
  writeFileSync(configuration, readFileSync(configuration, 'utf8').replace('<?php', `<?php ${address}`));
  const found = await run(['fleet', 'find', join(root, 'old'), '--out', join(cwd, 'found.csv')], { cwd });
  assert.equal(found.code, 0, found.stderr);
  const yaml = join(cwd, 'odd.yaml');
  const sheet = { old: { address: '{address}', files: '{folder}' }, new: { address: 'https://b.example' } };
  writeFileSync(yaml, JSON.stringify({ name: 'odd', sites: 'found.csv', template: sheet }));
  const { sites, stderr } = await fleet(cwd, 'survey', '--fleet', yaml);
  const text = JSON.stringify(sites) + stderr + found.stdout;
  assert.ok(text.includes('old') && !text.includes('secret of the tide'), text);
  assert.notEqual(sites[0]?.outcome?.state, 'failed', text);
});

test('find looks where hosts keep sites, over SFTP and without a shell too', async t => {
  const root = folder(t);
  await makeFleet(root, 2);
  for (const [kind, shell] of [
    ['sftp with a shell', 'a'],
    ['sftp', 'b'],
  ] as const) {
    const at = join(root, `host-${shell}`);
    const host = await standinHost(t, at, kind);
    for (const [i, place] of ['home/u/public_html', 'var/www/club'].entries())
      cpSync(join(root, 'old', siteName(i + 1)), join(at, place), { recursive: true });
    const key = /SHA256:[^"]+/.exec(host.login)![0];
    const found = await run(['fleet', 'find', `${host.address}/`, '--host-key', key, '--json'], {
      cwd: root,
      env: { FIND_PASSWORD: "p'w %é" },
    });
    assert.equal(found.code, 0, found.stderr);
    const sites = JSON.parse(found.stdout) as { name: string; folder: string; database: string }[];
    assert.deepEqual(
      sites.map(({ name, folder: path, database }) => [name, path, database]),
      [
        ['u-public_html', '/home/u/public_html', siteName(1)],
        ['club', '/var/www/club', siteName(2)],
      ],
      kind,
    );
  }
});

test('the report leads to a page a site, the worst first', async t => {
  const root = folder(t);
  const cwd = await makeFleet(root, 3);
  rmSync(join(root, 'old', siteName(2), 'wp-config.php'));
  await fleet(cwd, 'go');
  const { code, stdout } = await run(['fleet', 'report'], { cwd });
  assert.equal(code, 0);
  assert.match(stdout, /moves\/report\.html/);
  const page = readFileSync(join(cwd, 'moves/report.html'), 'utf8');
  assert.match(page, /1 site needs a person/);
  const links = [...page.matchAll(/href="([^"#]+\.html)"/g)].map(([, to]) => to!);
  assert.equal(new Set(links).size, 3);
  for (const link of links) assert.ok(existsSync(join(cwd, 'moves', link)), link);
  const order = [...page.slice(page.indexOf('All sites')).matchAll(/>(club-\d+)</g)].map(([, name]) => name);
  assert.equal(order[0], siteName(2));
});

test('who comes with a larger fence takes a move over, and the one before can do nothing more', async t => {
  const root = folder(t);
  const sheet = join(root, 'move.yaml');
  writeFileSync(sheet, '');
  const record = { at: new Date().toISOString(), step: 'pack', event: 'began' } as const;
  const first = new MoveFolder(sheet);
  const held = await first.lock(7);
  await first.note(record);
  await assert.rejects(new MoveFolder(sheet).lock(), UsageError, 'a person waits');
  await assert.rejects(new MoveFolder(sheet).lock(7), UsageError);
  const second = new MoveFolder(sheet);
  const taken = await second.lock(8);
  await assert.rejects(first.note(record), PartWayError);
  await held.release();
  await second.note(record);
  assert.equal((await second.readJournal()).length, 2);
  await taken.release();
  assert.ok(!readdirSync(root).includes('.lock'));
  // What a person does is not taken over.
  const person = await first.lock();
  await assert.rejects(new MoveFolder(sheet).lock(9), UsageError);
  await person.release();
});
