import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import {
  cpSync,
  existsSync,
  lstatSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync, gzipSync } from 'node:zlib';
import { makeClub, newPassword, oldPlace } from '../help/club.js';
import { effort } from '../help/effort.js';
import { folder, operationsOf, run } from '../help/program.js';

/** Every path below a folder with what it is: size and digest, or where it points; modes and times of files. */
function treeOf(root: string): Record<string, string> {
  const tree: Record<string, string> = {};
  for (const name of readdirSync(root, { recursive: true }).map(String).sort()) {
    const stats = lstatSync(join(root, name));
    const content = stats.isFile()
      ? createHash('sha256')
          .update(readFileSync(join(root, name)))
          .digest('hex')
      : '';
    tree[name] =
      `${stats.mode.toString(8)} ${stats.isFile() && !name.endsWith('.sql.gz') ? Math.round(stats.mtimeMs / 1000) : ''} ${content}`;
  }
  return tree;
}

const json = (text: string) => JSON.parse(text);

test('a whole move: done once, resumed, checked, undone, done again and tidied', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const old = join(root, 'old/site');
  const htdocs = join(root, 'new/htdocs');
  symlinkSync('style.css', join(old, 'wp-content/themes/creek/link.css'));
  symlinkSync('/etc/passwd', join(old, 'outside'));
  mkdirSync(join(old, 'empty folder é'), { mode: 0o750 });
  writeFileSync(join(old, "it's \n odd"), '', { mode: 0o600 });
  utimesSync(join(old, 'robots.txt'), 1_000_000_000, 1_000_000_000);
  const oldTree = treeOf(join(root, 'old'));
  mkdirSync(htdocs);
  writeFileSync(join(htdocs, 'index.html'), 'placeholder');

  const unasked = await run(['go'], { cwd: move });
  assert.equal(unasked.code, 2);
  assert.match(unasked.stderr, /--yes/);
  const went = await run(['go', '--yes', '--json'], { cwd: move });
  assert.equal(went.code, 0, went.stderr);
  const { outcomes } = json(went.stdout);
  assert.deepEqual(
    outcomes.map((one: { step: string; state: string }) => `${one.step} ${one.state}`),
    [
      'survey done',
      'pack done',
      'rewrite done',
      'deliver done',
      'check done',
      'redirects done',
      'cutover done',
    ],
  );
  const { result } = outcomes[4];
  assert.deepEqual(
    [result.files.missing, result.files.different, result.files.extra, result.files.edited],
    [[], [], [], 2],
  );
  assert.ok(result.tables.length === 12 && result.tables.every((one: { equal: boolean }) => one.equal));
  assert.deepEqual(result.leftOver.map((one: { why: string }) => one.why).sort(), [
    'damaged value',
    'left on purpose',
  ]);
  assert.ok(outcomes[1].findings.some((one: { code: string }) => one.code === 'link-leads-outside'));

  assert.deepEqual(treeOf(join(root, 'old')), oldTree, 'the old site is only read');
  assert.equal(
    readFileSync(join(htdocs, 'wp-content/themes/creek/link.css'), 'utf8'),
    readFileSync(join(old, 'wp-content/themes/creek/style.css'), 'utf8'),
  );
  assert.equal(statSync(join(htdocs, 'empty folder é')).mode & 0o777, 0o750);
  assert.equal(statSync(join(htdocs, "it's \n odd")).mode & 0o777, 0o600);
  assert.equal(statSync(join(htdocs, 'robots.txt')).mtimeMs, 1_000_000_000_000);
  assert.ok(
    !existsSync(join(htdocs, 'outside')) &&
      !existsSync(join(htdocs, 'wp-content/cache')) &&
      !existsSync(join(htdocs, 'index.html')),
  );
  const css = readFileSync(join(htdocs, 'wp-content/uploads/creek/generated.css'), 'utf8');
  assert.ok(css.includes('https://saltmarshrowing.example/') && !css.includes('club.saltmarsh'));

  const again = await run(['go', '--yes', '--json'], { cwd: move });
  assert.ok(
    json(again.stdout).outcomes.every((one: { state: string }) => one.state === 'already done'),
    again.stdout,
  );

  const crate = json(readFileSync(join(move, 'crate/crate.json'), 'utf8'));
  assert.equal(
    crate.parts['database.sql.gz'].sha256,
    createHash('sha256')
      .update(readFileSync(join(root, 'old/club.sql.gz')))
      .digest('hex'),
  );

  const undone = await run(['undo', '--yes'], { cwd: move });
  assert.equal(undone.code, 0, undone.stderr);
  assert.deepEqual(readdirSync(join(root, 'new'), { recursive: true }).sort(), [
    'htdocs',
    'htdocs/index.html',
  ]);
  const status = json((await run(['status', '--json'], { cwd: move })).stdout);
  assert.deepEqual(
    Object.fromEntries(status.steps.map((one: { step: string; state: string }) => [one.step, one.state])),
    {
      survey: 'done',
      pack: 'done',
      rewrite: 'done',
      deliver: 'not yet',
      configure: 'not yet',
      check: 'not yet',
      redirects: 'planned',
      cutover: 'planned',
      tidy: 'not yet',
      undo: 'done',
    },
  );

  assert.equal((await run(['go', '--yes'], { cwd: move })).code, 0);
  const early = await run(['tidy', '--yes'], { cwd: move });
  assert.equal(early.code, 1);
  assert.match(early.stdout, /tidy-not-switched/);
  assert.equal((await run(['cutover', 'switch'], { cwd: move })).code, 2);
  assert.equal((await run(['cutover', 'switch', '--by-hand'], { cwd: move })).code, 0);
  assert.equal((await run(['tidy', '--yes'], { cwd: move })).code, 0);
  for (const command of [
    ['undo', '--yes'],
    ['deliver', '--yes'],
    ['go', '--yes'],
    ['tidy', '--yes'],
  ]) {
    const closed = await run(command, { cwd: move });
    assert.equal(closed.code, 2, command.join(' '));
    assert.match(closed.stderr, /is closed/);
  }
  assert.deepEqual(readdirSync(join(root, 'new')).sort(), ['finished.sql.gz', 'htdocs']);
  assert.ok(!existsSync(join(move, 'crate')));

  const written = [...readdirSync(move, { recursive: true }), ...readdirSync(join(root, 'new'))].map(String);
  const texts = written
    .filter(name => !name.endsWith('.env'))
    .map(name => join(move, name))
    .filter(path => existsSync(path) && statSync(path).isFile());
  for (const path of texts)
    assert.ok(!readFileSync(path, 'utf8').includes(newPassword), `the password stands in ${path}`);
  for (const { stdout, stderr } of [went, again, undone])
    assert.ok(!(stdout + stderr).includes(newPassword.slice(0, 5)));
});

test('a changed sheet or input makes a step stale, and only what changed is done again', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  assert.equal((await run(['go', '--yes'], { cwd: move })).code, 0);
  const states = async () => {
    const { steps } = json((await run(['status', '--json'], { cwd: move })).stdout) as {
      steps: { step: string; state: string }[];
    };
    return steps.filter(({ state }) => state === 'stale').map(({ step }) => step);
  };
  assert.deepEqual(await states(), []);
  const sheet = join(move, 'move.yaml');
  const text = readFileSync(sheet, 'utf8');
  writeFileSync(sheet, text.replace('prefix: row_', 'prefix: oar_'));
  assert.deepEqual(await states(), ['survey', 'rewrite', 'deliver', 'check']);
  writeFileSync(join(root, 'old/site/new page.txt'), 'hello');
  assert.deepEqual(await states(), ['survey', 'pack', 'rewrite', 'deliver', 'check']);
  const went = json((await run(['go', '--yes', '--json'], { cwd: move })).stdout);
  assert.equal(went.stoppedAt, undefined);
  assert.equal(went.outcomes[1].result.kept, went.outcomes[1].result.counts.files - 1);
  assert.ok(existsSync(join(root, 'new/htdocs/new page.txt')));
  assert.match(readFileSync(join(root, 'new/htdocs/wp-config.php'), 'utf8'), /'oar_'/);
  assert.ok(
    !readdirSync(join(root, 'new')).some(name => name.startsWith('.')),
    'our own first delivery is no keepsake',
  );
  writeFileSync(join(move, '.env'), 'NEW_DB_PASSWORD=other\n');
  assert.deepEqual(await states(), ['survey', 'deliver', 'check']);
  rmSync(join(root, 'old/site/new page.txt'));
  const left = await run(['go', '--yes'], { cwd: move });
  assert.equal(left.code, 0);
  assert.match(readFileSync(join(move, 'results/deliver.json'), 'utf8'), /files-gone-stay/);
  assert.ok(existsSync(join(root, 'new/htdocs/new page.txt')), 'nothing is taken away unasked');
  assert.equal((await run(['deliver', '--mirror', '--yes'], { cwd: move })).code, 0);
  assert.ok(!existsSync(join(root, 'new/htdocs/new page.txt')));
  assert.ok(!readdirSync(join(root, 'new')).some(name => name.startsWith('.')));
});

test('what an interrupted delivery left of another crate is not delivered, and no part of a password is shown', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const config = join(root, 'old/site/wp-config.php');
  writeFileSync(
    config,
    readFileSync(config, 'utf8').replace(/'DB_PASSWORD', '.*' /, "'DB_PASSWORD', strrev('terces')"),
  );
  const incoming = join(root, 'new/.able-porter.saltmarsh/htdocs.incoming');
  mkdirSync(join(incoming, 'robots.txt/was a folder'), { recursive: true });
  mkdirSync(join(incoming, 'wp-includes'), { mode: 0o500 });
  writeFileSync(join(incoming, 'gone.php'), 'x');
  writeFileSync(join(incoming, 'wp-content'), 'was a file');
  const ran = await run(['go', '--yes', '--json'], { cwd: move });
  assert.equal(ran.code, 0, ran.stderr);
  assert.ok(
    !existsSync(join(root, 'new/htdocs/gone.php')) && statSync(join(root, 'new/htdocs/robots.txt')).isFile(),
  );
  assert.match(ran.stdout, /configuration-by-hand/);
  const written = readdirSync(join(move, 'results')).map(name =>
    readFileSync(join(move, 'results', name), 'utf8'),
  );
  for (const text of [ran.stdout, ran.stderr, ...written]) assert.ok(!text.includes('terces'));
});

test('check finds what somebody changed at the new end', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  await run(['go', '--yes'], { cwd: move });
  const at = (path: string) => join(root, 'new/htdocs', path);
  rmSync(at('robots.txt'));
  writeFileSync(at('index.php'), 'changed');
  writeFileSync(at('left.php'), `<?php $u = '${oldPlace.address}/x';`);
  writeFileSync(at('wp-content/themes/creek/functions.php'), `<?php\n\n$u = '${oldPlace.address}/x';`);
  writeFileSync(at('wp-config.php'), readFileSync(at('wp-config.php'), 'utf8').replace("'row_'", "'sr4_'"));
  const dump = gunzipSync(readFileSync(join(root, 'new/finished.sql.gz'))).toString();
  writeFileSync(
    join(root, 'new/finished.sql.gz'),
    gzipSync(dump.replaceAll('Zoë', 'Zoe').replace('https://saltmarshrowing.example', oldPlace.address)),
  );
  const ran = await run(['check', '--json'], { cwd: move });
  assert.equal(ran.code, 1);
  const codes = json(ran.stdout).findings.map(
    (one: { level: string; code: string; place: string }) =>
      `${one.level} ${one.code} ${one.place.replace(root, '')}`,
  );
  for (const expected of [
    'stop file-missing /new/htdocs/robots.txt',
    'stop file-different /new/htdocs/index.php',
    'note file-extra /new/htdocs/left.php',
    'stop configuration-differs /new/htdocs/wp-config.php:15',
    'stop table-different finished.sql.gz, table row_comments',
    'stop table-different finished.sql.gz, table row_users',
    'warn address-left-over /new/htdocs/wp-content/themes/creek/functions.php:3',
    'warn address-left-over row_comments.comment_author_url',
  ]) {
    assert.ok(codes.includes(expected), `${expected} in\n${codes.join('\n')}`);
  }
});

test('killed at any moment and run again, a move ends the same', async t => {
  const root = folder(t);
  await makeClub(root);
  mkdirSync(join(root, 'new/htdocs'));
  writeFileSync(join(root, 'new/htdocs/index.html'), 'placeholder');
  // A copy has its time to the millisecond only.
  utimesSync(join(root, 'new/htdocs/index.html'), 1_500_000_000, 1_500_000_000);
  const whole = join(root, 'whole');
  for (const part of ['old', 'new', 'move'])
    cpSync(join(root, part), join(whole, part), { recursive: true, preserveTimestamps: true });
  const all = await operationsOf(t, ['go', '--yes'], { cwd: join(whole, 'move') });
  // When its rule for the web server was written does not matter.
  const timeless = (tree: Record<string, string>) => ({
    ...tree,
    '.able-porter.saltmarsh/.htaccess': 'a rule',
  });
  const expected = timeless(treeOf(join(whole, 'new')));
  const before = treeOf(join(root, 'new'));
  const move = join(root, 'move');
  // Each round is killed three times in its first run and the two that resume it, then ends and is undone.
  const rounds = effort(3, 7);
  for (let round = 0; round < rounds; round++) {
    const part = 0.05 + (0.9 * round) / (rounds - 1);
    const first = await run(['go', '--yes'], { cwd: move, killAt: Math.ceil(all * part) });
    assert.equal(first.code, null, `not killed at ${part} of ${all}`);
    for (const next of [0.1, 0.3]) await run(['go', '--yes'], { cwd: move, killAt: Math.ceil(all * next) });
    const { code, stderr } = await run(['go', '--yes'], { cwd: move });
    assert.equal(code, 0, stderr);
    assert.deepEqual(timeless(treeOf(join(root, 'new'))), expected, `killed at ${part}`);
    for (const at of [3, 8, 20]) await run(['undo', '--yes'], { cwd: move, killAt: at });
    assert.equal((await run(['undo', '--yes'], { cwd: move })).code, 0);
    assert.deepEqual(treeOf(join(root, 'new')), before, `killed at ${part} and undone`);
    for (const left of ['journal.ndjson', 'crate', 'results']) rmSync(join(move, left), { recursive: true });
  }
  assert.equal((await run(['go', '--yes'], { cwd: move })).code, 0);
  assert.deepEqual(timeless(treeOf(join(root, 'new'))), expected);
});

test('a site of no known family: its .env, the sheet’s own edits and the web server’s files are fitted', async t => {
  const root = folder(t);
  const at = (path: string) => join(root, path);
  for (const path of ['old/config', 'move', 'new']) mkdirSync(at(path), { recursive: true });
  writeFileSync(
    at('old/.env'),
    "APP_URL=https://old.example/site\nDB_DATABASE=club\nDB_PASSWORD='secret one'\n",
  );
  writeFileSync(at('old/config/app.ini'), 'base=/site/\nbase2=/site/\n');
  writeFileSync(at('old/.htaccess'), 'RewriteEngine On\nRewriteBase /site/\n', { mode: 0o640 });
  writeFileSync(
    at('move/move.yaml'),
    `name: any
old: { address: https://old.example/site, files: ../old }
new: { address: https://new.example, files: ../new/site, database: { server: "mysql://u@127.0.0.1:9/neu", password: "\${PW}" } }
configure: { edits: [{ file: config/app.ini, find: "=/site/", put: "=/" }, { file: config/none.ini, find: a, put: b }] }
`,
  );
  const ran = await run(['go', '--json'], { cwd: at('move'), env: { PW: 'new secret' } });
  assert.equal(ran.code, 0, ran.stderr + ran.stdout);
  const { outcomes } = json(ran.stdout);
  assert.deepEqual(outcomes[3].result.fitted.sort(), ['.htaccess', 'config/app.ini']);
  assert.deepEqual(outcomes[3].result.edits, [2, 0]);
  assert.deepEqual(
    outcomes[3].findings
      .map((one: { code: string; place: string }) => `${one.code} ${one.place.replace(root, '')}`)
      .sort(),
    [
      'configuration-by-hand /new/site/.env',
      'configuration-by-hand /new/site/.env',
      'configuration-by-hand /new/site/.env',
      'edit-not-found /new/site/config/none.ini',
    ],
  );
  assert.equal(readFileSync(at('new/site/config/app.ini'), 'utf8'), 'base=/\nbase2=/\n');
  assert.equal(readFileSync(at('new/site/.htaccess'), 'utf8'), 'RewriteEngine On\nRewriteBase /\n');
  assert.equal(statSync(at('new/site/.htaccess')).mode & 0o777, 0o640);
  assert.match(
    readFileSync(at('new/site/.env'), 'utf8'),
    /APP_URL=https:\/\/new\.example\nDB_DATABASE=neu\nDB_PASSWORD='new secret'\n/,
  );
  assert.ok(!ran.stdout.includes('secret one') && !ran.stdout.includes('new secret'));
});
