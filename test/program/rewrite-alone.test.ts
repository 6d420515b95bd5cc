import assert from 'node:assert/strict';
import { spawnSync } from 'node:child_process';
import {
  chmodSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  statSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gzipSync } from 'node:zlib';
import { makeClub } from '../help/club.js';
import { folder, program, run } from '../help/program.js';

const pair = ['--from', 'https://old.example/site', '--to', 'https://new.example'];

test('the text files of a folder are rewritten where they lie, and kept as they were beside it', async t => {
  const root = folder(t);
  const site = join(root, 'site');
  mkdirSync(join(site, 'themes/club'), { recursive: true });
  mkdirSync(join(site, 'logs'));
  const files: Record<string, string> = {
    'index.php': "<?php $home = 'https://old.example/site/a';\n",
    'themes/club/style.css': 'a { background: url(/site/x.png) } /* é */',
    'themes/club/settings.json': '{"u":"https:\\/\\/old.example\\/site"}',
    'logs/access.log': 'GET https://old.example/site/',
    'logo.png': 'PNG\0https://old.example/site',
    'binary.txt': '\0https://old.example/site',
    'left.html': '<a href="https://old.example/site">',
    'nothing.txt': 'no address',
  };
  for (const [name, text] of Object.entries(files)) writeFileSync(join(site, name), text);
  chmodSync(join(site, 'index.php'), 0o640);
  writeFileSync(join(root, 'outside.txt'), files['index.php']!);
  symlinkSync('../outside.txt', join(site, 'link.txt'));
  const content = (name: string) => readFileSync(join(site, name), 'utf8');
  const options = ['rewrite', 'site', ...pair, '--leave', 'left.html', '--json'];

  assert.equal((await run(options, { cwd: root })).code, 2, 'it must ask first');
  const dry = await run([...options, '--dry-run'], { cwd: root });
  assert.deepEqual(Object.keys(files).map(content), Object.values(files));
  assert.ok(!existsSync(join(root, 'site.before-rewriting')));
  const real = await run([...options, '--yes'], { cwd: root });
  assert.equal(real.code, 0, real.stderr);
  const { totals } = JSON.parse(real.stdout).summary;
  assert.deepEqual(JSON.parse(dry.stdout).summary.totals, totals);
  assert.deepEqual([totals.occurrences, totals.left], [3, 1]);

  const changed: Record<string, string> = {
    'index.php': "<?php $home = 'https://new.example/a';\n",
    'themes/club/style.css': 'a { background: url(/x.png) } /* é */',
    'themes/club/settings.json': '{"u":"https:\\/\\/new.example"}',
  };
  for (const [name, text] of Object.entries({ ...files, ...changed })) assert.equal(content(name), text);
  for (const name of Object.keys(changed))
    assert.equal(readFileSync(join(root, 'site.before-rewriting', name), 'utf8'), files[name]);
  assert.equal(statSync(join(site, 'index.php')).mode & 0o777, 0o640);
  assert.equal(readFileSync(join(root, 'outside.txt'), 'utf8'), files['index.php']);
  assert.ok(!readdirSync(site).some(name => name.includes('partial')));

  const only = await run(['rewrite', 'site', ...pair, '--only', '*.log', '--yes', '--json'], { cwd: root });
  assert.equal(only.code, 0, only.stderr);
  assert.equal(content('logs/access.log'), 'GET https://new.example/');
  assert.equal(content('left.html'), files['left.html']);
  assert.ok(existsSync(join(root, 'site.before-rewriting-2/logs/access.log')));
});

test('what is left is listed with its row and reason; --only names all that is changed', async t => {
  const root = folder(t);
  writeFileSync(
    join(root, 'old.sql'),
    "CREATE TABLE `o` (\n  `id` int,\n  `v` text,\n  `w` text\n);\nINSERT INTO `o` VALUES (7,'https://old.example/site','https://old.example/site'),('k','https://old.example/other','me@old.example');\n",
  );
  const { stdout, code } = await run(
    ['rewrite', 'old.sql', ...pair, '--only', 'o.v', '--out', '-', '--where-left'],
    { cwd: root },
  );
  assert.equal(code, 0);
  assert.ok(stdout.includes("(7,'https://new.example','https://old.example/site')"));
  const listed = await run(
    ['rewrite', 'old.sql', ...pair, '--only', 'o.v', '--dry-run', '--where-left', '--json'],
    { cwd: root },
  );
  assert.deepEqual(
    JSON.parse(listed.stdout).left.map(({ where, row, why }: Record<string, string>) => [where, row, why]),
    [
      ['o.w', 'row 1 (7)', 'not named by --only'],
      ['o.v', "row 2 ('k')", 'other path'],
    ],
  );
});

test('a packed file that is made to fill a disk is refused, and what never ends is damage', async t => {
  const root = folder(t);
  const many = Buffer.concat([
    gzipSync('CREATE TABLE t (a int);\n'),
    gzipSync(Buffer.alloc(30_000_000, '\n')),
  ]);
  writeFileSync(join(root, 'bomb.gz'), many);
  const options = ['rewrite', 'bomb.gz', ...pair, '--out', 'new.sql'];
  const limited = await run([...options, '--unpacked-limit', '10MB'], { cwd: root });
  assert.equal(limited.code, 4);
  assert.match(limited.stderr, /unpacks to more than 10\.0 MB/);
  assert.deepEqual(readdirSync(root), ['bomb.gz']);
  const piece = gzipSync(Buffer.alloc(100_000_000, 'x'), { level: 9 });
  const endless = Buffer.concat([gzipSync("INSERT INTO t VALUES ('"), piece, piece, piece, piece]);
  writeFileSync(join(root, 'bomb.gz'), endless);
  const refused = await run(options, { cwd: root });
  assert.equal(refused.code, 4, refused.stderr);
  assert.match(refused.stderr, /a value of the table t has no end/);
});

test('a large dump is rewritten to the byte, and damage in it leaves nothing behind', async t => {
  const root = folder(t);
  const dump = (address: string) => {
    const rows = Array.from({ length: 60_000 }, (_, i) => {
      const text = `see ${address}/${i} ${'tide '.repeat(i % 60)}`;
      return `(${i},'${i % 3 ? text : `a:1:{i:0;s:${text.length}:\\"${text}\\";}`}','http://old.example:8080/')`;
    });
    // Statements that end inside, at, and after the borders of what is looked at together.
    const inserts = Array.from({ length: 60 }, (_, i) => rows.slice(i * 1000, i * 1000 + 1000).join(',\n'));
    const head = 'CREATE TABLE `t` (\n  `id` int,\n  `text` longtext,\n  `other` text\n);\n';
    return head + inserts.map(list => `INSERT INTO \`t\` VALUES ${list};\n`).join('');
  };
  const old = dump('https://old.example/site');
  assert.ok(old.length > 9e6);
  writeFileSync(join(root, 'old.sql'), old);
  const rewrite = (...options: string[]) => run(['rewrite', ...options, ...pair, '--json'], { cwd: root });

  const real = await rewrite('old.sql', '--out', 'new.sql');
  assert.equal(real.code, 0, real.stderr);
  assert.ok(readFileSync(join(root, 'new.sql'), 'utf8') === dump('https://new.example'));
  const { totals, rows } = JSON.parse(real.stdout).summary;
  assert.deepEqual(
    [totals.occurrences, totals.changed, totals.seen, rows],
    [60_000, 60_000, 120_000, 60_000],
  );
  assert.deepEqual(totals.misses, { 'other port': 60_000 });
  const dry = await rewrite('old.sql', '--dry-run');
  assert.deepEqual(JSON.parse(dry.stdout).summary, JSON.parse(real.stdout).summary);

  writeFileSync(join(root, 'cut.sql'), old.slice(0, -20));
  const cut = await rewrite('cut.sql', '--out', 'cut.new.sql');
  assert.equal(cut.code, 4, cut.stderr);
  assert.match(cut.stderr, /cut\.sql: it ends inside/);
  assert.deepEqual(
    readdirSync(root).filter(name => name.includes('cut.new')),
    [],
  );
});

test('a dump that another program gives through a pipe with a name is read as it comes', t => {
  const root = folder(t);
  writeFileSync(join(root, 'old.sql'), "INSERT INTO t VALUES ('https://old.example/x');\n");
  const addresses = '--from https://old.example --to https://new.example';
  const { status, stderr } = spawnSync(
    'bash',
    ['-c', `node ${program} rewrite <(cat old.sql) ${addresses} --out new.sql --yes`],
    { cwd: root, encoding: 'utf8' },
  );
  assert.equal(status, 0, stderr);
  assert.equal(
    readFileSync(join(root, 'new.sql'), 'utf8'),
    "INSERT INTO t VALUES ('https://new.example/x');\n",
  );
});

test('nothing found, or a prefix that no table has, is not silent', async t => {
  const root = folder(t);
  writeFileSync(
    join(root, 'a.sql'),
    "CREATE TABLE `fh7_a` (`v` text);\nINSERT INTO `fh7_a` VALUES ('https://old.example/site/');\n",
  );
  const codes = async (...options: string[]) => {
    const { stdout } = await run(['rewrite', 'a.sql', ...options, '--dry-run', '--json'], { cwd: root });
    return JSON.parse(stdout).findings.map((one: { code: string }) => one.code);
  };
  assert.deepEqual(await codes(...pair, '--prefix-from', 'fh7_', '--prefix-to', 'x_'), []);
  assert.deepEqual(
    await codes(
      '--from',
      'https://other.example',
      '--to',
      'https://new.example',
      '--prefix-from',
      'fh8_',
      '--prefix-to',
      'x_',
    ),
    ['no-address-found', 'prefix-not-found'],
  );
});

test('a dry run on the crate counts what the rewriting then changes, and writes nothing', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const has = () => readdirSync(move, { recursive: true }).map(String).sort();
  const json = async (...args: string[]) =>
    JSON.parse((await run([...args, '--json'], { cwd: move })).stdout);
  assert.equal((await run(['pack', '--yes'], { cwd: move })).code, 0);
  const before = has();
  const tried = await json('rewrite', '--dry-run', '--where-left');
  assert.deepEqual(has(), before);
  assert.ok(tried.left.length > 0);
  const { result } = await json('rewrite');
  assert.deepEqual([tried.dump, tried.files], [result.dump, result.files]);
  assert.ok(tried.dump.totals.occurrences > 100);
});

test('a dry run of the whole move counts what the steps then do, and writes at no end', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const json = async (...args: string[]) =>
    JSON.parse((await run([...args, '--json'], { cwd: move })).stdout);
  const ends = () => ['old', 'new'].map(end => readdirSync(join(root, end), { recursive: true }).sort());
  const before = ends();
  const early = await json('go', '--dry-run');
  assert.deepEqual([early.crate, early.rewriting, early.delivery], [undefined, undefined, undefined]);
  assert.deepEqual([early.survey.state, ends()], ['done', before]);
  assert.ok(!readdirSync(move).includes('crate'));
  await json('pack');
  const tried = await json('go', '--dry-run');
  assert.deepEqual([tried.crate.isCurrent, ends()], [true, before]);
  const { outcomes } = await json('go', '--yes');
  const results = outcomes.map((one: { result: unknown }) => one.result);
  assert.deepEqual(tried.rewriting.dump, results[2].dump);
  assert.equal(tried.delivery.files.files, results[3].files.count);
  const { files } = (await json('go', '--dry-run')).delivery;
  // The configuration and .htaccess are set up there.
  assert.deepEqual([files.same, files.bytes], [results[3].files.count - 2, results[3].files.bytes]);
});
