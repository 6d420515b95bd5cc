import assert from 'node:assert/strict';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync } from 'node:zlib';
import { makeClub, oldPlace } from '../help/club.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { until } from '../real/database.js';

test('the demo moves the club, finds its faults, leaves nothing behind, and can be run again', async t => {
  const before = readdirSync(tmpdir()).filter(name => name.startsWith('able-porter-demo'));
  const plain = await run(['demo', '--store']);
  assert.equal(plain.code, 0, plain.stderr);
  assert.match(plain.stdout, /1 crate there; 1 part read again, and as stored[\s\S]*Every check passed/);
  assert.deepEqual(
    readdirSync(tmpdir()).filter(name => name.startsWith('able-porter-demo')),
    before,
  );

  const keep = join(folder(t), 'kept');
  const ran = await run(['demo', '--keep', keep, '--json']);
  assert.equal(ran.code, 0, ran.stderr);
  const { firstFindings, faults, outcomes } = JSON.parse(ran.stdout);
  assert.deepEqual(
    firstFindings.map((one: { code: string }) => one.code),
    ['address-not-named', 'new-folder-not-empty'],
  );
  assert.deepEqual(
    faults.map((one: { found: { level: string; code: string } }) => `${one.found.level} ${one.found.code}`),
    ['stop page-database-error', 'stop page-installation', 'stop page-sent-to-old'],
  );
  const { pages, tables, files } = outcomes.check.result;
  assert.ok(pages.length >= 60 && pages.every((one: { verdict: string }) => one.verdict === 'same'));
  assert.ok(tables.every((one: { equal: boolean }) => one.equal) && files.missing.length === 0);
  for (const form of ['plain', 'schemeless', 'json-escaped', 'percent-encoded', 'entity']) {
    assert.ok(outcomes.rewrite.result.dump.totals.forms[form] > 0, form);
  }
  const move = join(keep, 'move');
  // Its hosts are gone, and nothing is taken for changed.
  assert.match((await run(['status'], { cwd: move })).stdout, /^The move is live.*pack +done /s);
  // What is seen from now on is of the next one.
  rmSync(join(move, 'journal.ndjson'));
  const served = run(['demo', '--keep', keep, '--serve'], {
    interruptWhen: () => existsSync(join(keep, 'enough')),
  });
  const reached = /check +done .*cutover +done /s;
  // The same folder is filled again.
  const status = () => run(['status'], { cwd: move }).catch(() => ({ stdout: '' }));
  await until('the switch', async () => reached.test((await status()).stdout));
  // The demo works on it until all is shown.
  const back = () => run(['cutover', 'back', '--yes'], { cwd: move }).catch(() => ({ code: undefined }));
  await until('the way back', async () => (await back()).code === 0);
  assert.equal((await run(['undo', '--yes'], { cwd: move })).code, 0);
  assert.equal(readFileSync(join(keep, 'new-host/htdocs/index.html'), 'utf8').includes('waiting'), true);
  writeFileSync(join(keep, 'enough'), '');
  assert.equal((await served).code, 0);
  const foreign = folder(t);
  mkdirSync(join(foreign, 'mine'));
  assert.equal((await run(['demo', '--keep', foreign])).code, 2);
  assert.ok(existsSync(join(foreign, 'mine')));
});

test('the demo moves twelve clubs as a fleet', async t => {
  const keep = join(folder(t), 'clubs');
  const ran = await run(['demo', '--fleet', '--keep', keep, '--json']);
  assert.equal(ran.code, 0, ran.stderr);
  const { first, second, plan, waves } = JSON.parse(ran.stdout);
  assert.deepEqual([first.count.done, first.count.stopped, second.count.done], [11, 1, 12]);
  assert.equal(plan.zones[0].changes.length, 12);
  assert.deepEqual(
    waves.map(({ state, sites }: { state: string; sites: string[] }) => `${state} ${sites.length}`),
    ['up 4', 'up 4', 'up 4'],
  );
  assert.match(readFileSync(join(keep, 'fleet/moves/report.html'), 'utf8'), /12 of 12/);
});

for (const by of ['simulated', 'php'])
  test(`the demo moves the club through hatches that are ${by === 'php' ? 'run by PHP' : by}, and leaves none`, async t => {
    if (by === 'php' && !needs(t, 'php')) return;
    const keep = join(folder(t), 'kept');
    const ran = await run(['demo', '--hatch', by, '--keep', keep]);
    assert.equal(ran.code, 0, ran.stdout + ran.stderr);
    assert.match(ran.stdout, /Every check passed/);
    assert.match(ran.stdout, /hatch-used/);
    const left = readdirSync(keep, { recursive: true }).map(String);
    assert.deepEqual(
      left.filter(name => /(?:^|\/)\.?p[\da-f]{32}/.test(name)),
      [],
    );
  });

test('a dump alone: file, pipe and dry run agree, and the output is rewritten once', async t => {
  const root = folder(t);
  await makeClub(root);
  const dump = join(root, 'old/club.sql.gz');
  const pairs = [
    '--from',
    oldPlace.address,
    '--to',
    'https://saltmarshrowing.example',
    '--from',
    oldPlace.temporary,
    '--to',
    'https://saltmarshrowing.example',
  ];
  const wish = [...pairs, '--leave', '*posts.guid', '--prefix-from', 'sr4_', '--prefix-to', 'row_'];
  const real = await run(['rewrite', dump, ...wish, '--out', 'new.sql.gz', '--json'], { cwd: root });
  const dry = await run(['rewrite', dump, ...wish, '--dry-run', '--json'], { cwd: root });
  assert.deepEqual(JSON.parse(dry.stdout).summary, JSON.parse(real.stdout).summary);
  const text = gunzipSync(readFileSync(join(root, 'new.sql.gz')));
  const piped = await run(['rewrite', '-', ...wish, '--out', '-'], { cwd: root, input: readFileSync(dump) });
  assert.equal(piped.stdout, text.toString());
  assert.match(piped.stderr, /rewritten in/);
  writeFileSync(join(root, 'once.sql'), text);
  await run(['rewrite', 'once.sql', ...wish, '--out', 'twice.sql'], { cwd: root });
  assert.deepEqual(readFileSync(join(root, 'twice.sql')), text);
  const nothing = await run(
    [
      'rewrite',
      'once.sql',
      '--from',
      'https://no.example',
      '--to',
      'https://x.example',
      '--out',
      '-',
      '--quiet',
    ],
    { cwd: root },
  );
  assert.equal(nothing.stdout, text.toString());
  const events = await run(['rewrite', dump, ...pairs, '--dry-run', '--json-events'], { cwd: root });
  assert.ok(
    events.stdout
      .trim()
      .split('\n')
      .map(line => JSON.parse(line))
      .some(({ type }) => type === 'result'),
  );
});

test('start writes a sheet from flags that the other commands read', async t => {
  const root = folder(t);
  await makeClub(root);
  const flags = [
    '--old',
    oldPlace.address,
    '--old-files',
    './old/site',
    '--old-dump',
    './old/club.sql.gz',
    '--new',
    'https://n.example',
    '--new-files',
    './n',
    '--new-dump',
    'n.sql',
  ];
  const incomplete = await run(['start', ...flags.slice(0, 4)], { cwd: root });
  assert.equal(incomplete.code, 2);
  assert.match(incomplete.stderr, /--new/);
  assert.equal((await run(['start', ...flags], { cwd: root })).code, 0);
  assert.match(readFileSync(join(root, 'move.yaml'), 'utf8'), /wp-content\/cache\//);
  assert.equal((await run(['start', ...flags], { cwd: root })).code, 2, 'it does not overwrite unasked');
  const survey = await run(['survey'], { cwd: root });
  assert.equal(survey.code, 0, survey.stderr);
  assert.match(survey.stdout, /address-not-named/);
});

test('Ctrl-C ends a rewriting with code 130 and leaves nothing that looks whole', async t => {
  const root = folder(t);
  const rows = Array.from(
    { length: 200_000 },
    (_, n) => `(${n},'${oldPlace.address}/page-${n}/ ${'tide '.repeat(40)}')`,
  );
  writeFileSync(join(root, 'big.sql'), `INSERT INTO t VALUES ${rows.join(',')};\n`);
  const pairs = ['--from', oldPlace.address, '--to', 'https://saltmarshrowing.example'];
  const begun = () => existsSync(join(root, '.new.sql.gz.partial'));
  const ran = await run(['rewrite', 'big.sql', ...pairs, '--out', 'new.sql.gz'], {
    cwd: root,
    interruptWhen: begun,
  });
  assert.equal(ran.code, 130, ran.stderr);
  assert.match(ran.stderr, /Interrupted/);
  assert.deepEqual(readdirSync(root), ['big.sql']);
});
