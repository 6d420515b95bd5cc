import assert from 'node:assert/strict';
import {
  chmodSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync, gzipSync } from 'node:zlib';
import { makeClub } from '../help/club.js';
import { folder, run } from '../help/program.js';
import { smallDisk } from '../help/small-disk.js';

/** Every path below a folder, to see that nothing was written. */
const listing = (path: string) =>
  readdirSync(path, { recursive: true })
    .map(String)
    .filter(name => !/journal|results/.test(name))
    .sort();

const from = ['--from', 'https://club.saltmarsh.example/site', '--to', 'https://saltmarshrowing.example'];

test('a dump alone that cannot be rewritten: a clear error, its exit code, nothing written', async t => {
  const root = folder(t);
  await makeClub(root);
  const packed = readFileSync(join(root, 'old/club.sql.gz'));
  const plain = gunzipSync(packed);
  const put = (name: string, content: Buffer | string) => {
    writeFileSync(join(root, name), content);
    return join(root, name);
  };
  const whole = put('whole.sql', plain);
  const cases: [name: string, args: string[], code: number, says: RegExp][] = [
    ['missing', ['nowhere.sql', ...from, '--out', 'out.sql'], 3, /it is not there/],
    [
      'cut short',
      [put('cut.sql', plain.subarray(0, plain.length / 2)), ...from, '--out', 'out.sql'],
      4,
      /it ends inside/,
    ],
    [
      'no last line',
      [put('last.sql', plain.subarray(0, plain.lastIndexOf('-- Dump'))), ...from, '--out', 'out.sql'],
      4,
      /Dump completed/,
    ],
    [
      'gzip cut short',
      [put('cut.sql.gz', packed.subarray(0, packed.length - 900)), ...from, '--out', 'out.sql'],
      4,
      /gzip packing is cut short/,
    ],
    [
      'gzip damaged',
      [
        put(
          'bad.sql.gz',
          Buffer.concat([packed.subarray(0, 3000), Buffer.alloc(50, 7), packed.subarray(3050)]),
        ),
        ...from,
        '--out',
        'out.sql',
      ],
      4,
      /gzip packing is damaged/,
    ],
    ...(
      [
        ['an xz file', Buffer.from([0xfd, 0x37, 0x7a, 0x58, 0x5a, 0]), /packed with xz/],
        ['UTF-16', Buffer.from('\ufeffINSERT', 'utf16le'), /text in UTF-16/],
        ['a custom dump of PostgreSQL', Buffer.from('PGDMP\x01'), /PostgreSQL/],
        [
          'a dump of PostgreSQL',
          Buffer.from('--\n-- PostgreSQL database dump\n--\nSET a = 1;\n'),
          /PostgreSQL/,
        ],
        ['rows of PostgreSQL', Buffer.from('COPY public.a (b) FROM stdin;\n1\n\\.\n'), /PostgreSQL/],
        ['a dump of SQLite', Buffer.from('PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n'), /SQLite/],
      ] as const
    ).map(([name, content, says]): (typeof cases)[number] => [
      name,
      [put(`${name}.sql`, content), ...from, '--out', 'out.sql'],
      4,
      says,
    ]),
    ['not SQL', [put('page.sql', '<html>no</html>'), ...from, '--out', 'out.sql'], 4, /is not SQL/],
    [
      'not SQL, packed',
      [put('page.sql.gz', gzipSync('<html>')), ...from, '--out', 'out.sql.gz'],
      4,
      /is not SQL/,
    ],
    ['empty', [put('empty.sql', ''), ...from, '--out', 'out.sql'], 4, /empty/],
    ['zip', [put('a.zip', 'PK\x03\x04xxxx'), ...from, '--out', 'out.sql'], 4, /zip packing is damaged/],
    [
      'a query',
      [whole, '--from', 'https://a.example/?p=1', '--to', 'https://b.example', '--out', 'out.sql'],
      2,
      /query/,
    ],
    [
      'old equal to new',
      [whole, '--from', 'https://a.example/', '--to', 'https://a.example', '--out', 'out.sql'],
      2,
      /equal/,
    ],
    ['no pair', [whole, '--out', 'out.sql'], 2, /0 --from/],
    ['no output', [whole, ...from], 2, /no --out/],
    ['over itself', [whole, ...from, '--out', whole, '--yes'], 2, /same file/],
    ['unasked overwriting', [whole, ...from, '--out', put('there.sql', 'x')], 2, /--yes/],
    ['unknown option', [whole, ...from, '--outt', 'x'], 2, /Unknown argument/],
    ['no folder to write to', [whole, ...from, '--out', 'no/such/folder/out.sql'], 3, /not there/],
  ];
  const before = listing(root);
  for (const [name, args, code, says] of cases) {
    const ran = await run(['rewrite', ...args], { cwd: root });
    assert.equal(ran.code, code, `${name}: ${ran.stderr}`);
    assert.match(ran.stderr, says, name);
    assert.equal(ran.stdout, '', name);
    assert.ok(ran.stderr.trim().split('\n').length <= 3, `${name}: ${ran.stderr}`);
    assert.doesNotMatch(ran.stderr, /\n\s+at /, name);
  }
  assert.deepEqual(listing(root), before);
});

test('a move that cannot be: a clear error, its exit code, nothing written', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const sheet = readFileSync(join(move, 'move.yaml'), 'utf8');
  symlinkSync(join(root, 'old'), join(root, 'elsewhere'));
  const cases: [name: string, sheet: string, code: number, says: RegExp][] = [
    ['new inside old', sheet.replace('../new/htdocs', '../old/site/new'), 2, /is inside old\.files/],
    ['old inside new', sheet.replace('../new/htdocs', '../old'), 2, /is inside new\.files/],
    [
      'new inside old by a link',
      sheet.replace('../new/htdocs', '../elsewhere/site/new'),
      2,
      /is inside old\.files/,
    ],
    [
      'dump inside old by a link',
      sheet.replace('../new/finished', '../elsewhere/site/finished'),
      2,
      /is inside old\.files/,
    ],
    ['same folder', sheet.replace('../new/htdocs', '../old/site'), 2, /both/],
    ['no old files', sheet.replace('../old/site', '../old/nothing'), 3, /Listing .* not there/],
    ['no dump', sheet.replace('club.sql.gz', 'none.sql.gz'), 3, /not there/],
    ['a server', sheet.replace('../old/site', 'scp://u@h.example/x'), 2, /not by scp:\/\//],
    [
      'five mistakes',
      'name: a b\nold: { adress: x }\nnew: { address: "https://a.example?x" }\ndsn: 1\nrewrite: { mail: x }\n',
      2,
      /has 6 mistakes/,
    ],
    ['no sheet', '', 2, /nothing in it/],
  ];
  const before = listing(root);
  for (const [name, text, code, says] of cases) {
    writeFileSync(join(move, 'move.yaml'), text);
    for (const command of ['pack', 'go']) {
      const ran = await run([command, '--yes'], { cwd: move });
      assert.equal(ran.code, code, `${command}, ${name}: ${ran.stderr}`);
      assert.match(ran.stderr, says, `${command}, ${name}`);
    }
  }
  chmodSync(join(move, '.env'), 0o644);
  writeFileSync(join(move, 'move.yaml'), sheet);
  const open = await run(['survey'], { cwd: move });
  assert.equal(open.code, 2);
  assert.match(open.stderr, /others on this machine can read it/);
  assert.deepEqual(listing(root), before);
});

test('a dump is packed or plain by what is in it, not by its name', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const dump = join(root, 'old/club.sql.gz');
  writeFileSync(dump, gunzipSync(readFileSync(dump)));
  assert.equal((await run(['pack'], { cwd: move })).code, 0);
  assert.deepEqual(gunzipSync(readFileSync(join(move, 'crate/database.sql.gz'))), readFileSync(dump));
});

test('survey says stop for what would go wrong later', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const codes = async () => {
    const ran = await run(['survey', '--json'], { cwd: move });
    const { findings } = JSON.parse(ran.stdout) as { findings: { level: string; code: string }[] };
    // Nobody listens where the new database should be.
    const told = findings.filter(({ code }) => code !== 'database-not-reached');
    return [ran.code, ...told.map(({ level, code }) => `${level} ${code}`)];
  };
  assert.deepEqual(await codes(), [0]);
  const config = join(root, 'old/site/wp-config.php');
  const text = readFileSync(config, 'utf8');
  writeFileSync(config, text.replace("'sr4_'", "'sr5_'"));
  assert.deepEqual(await codes(), [1, 'stop prefix-differs']);
  writeFileSync(config, text.replace("'localhost'", "getenv('X')"));
  assert.deepEqual(await codes(), [0, 'warn configuration-by-hand']);
  writeFileSync(
    config,
    text.replace(/define\( 'DB_NAME', 'club_old' \);/, "require __DIR__ . '/secrets.php';"),
  );
  assert.deepEqual(await codes(), [
    0,
    'warn configuration-elsewhere',
    'warn configuration-include',
    'warn configuration-by-hand',
  ]);
  rmSync(config);
  writeFileSync(join(root, 'old/wp-config.php'), text);
  assert.deepEqual(await codes(), [0, 'note configuration-above']);
  rmSync(join(root, 'old/wp-config.php'));
  writeFileSync(config, '<?php define(');
  assert.deepEqual(await codes(), [1, 'stop configuration-unreadable']);
  rmSync(config);
  assert.deepEqual(await codes(), [1, 'stop configuration-missing']);
  const only = await run(['survey', '--only', 'stop'], { cwd: move });
  assert.match(only.stdout, /^STOP {2}configuration-missing/);
  assert.equal(only.stdout.trim().split('\n').length, 3);
  const packed = await run(['pack'], { cwd: move });
  assert.equal(packed.code, 1);
  assert.ok(!readdirSync(move).includes('crate'));
  writeFileSync(config, text);
  const sheet = join(move, 'move.yaml');
  writeFileSync(
    sheet,
    readFileSync(sheet, 'utf8')
      .replace(/also: .*/, 'also: []')
      .replace('old:\n  address: https', 'old:\n  address: http'),
  );
  mkdirSync(join(root, 'new/htdocs'));
  writeFileSync(join(root, 'new/htdocs/index.html'), 'x');
  assert.deepEqual(await codes(), [0, 'warn address-not-named', 'warn new-folder-not-empty']);
  const dump = gunzipSync(readFileSync(join(root, 'old/club.sql.gz'))).toString();
  writeFileSync(
    join(root, 'old/club.sql.gz'),
    gzipSync(dump.replaceAll('tmp-4417.oldhost', 'www.club.saltmarsh')),
  );
  assert.deepEqual(await codes(), [0, 'warn address-twin', 'warn new-folder-not-empty']);
  writeFileSync(join(root, 'old/club.sql.gz'), gzipSync('CREATE TABLE t (a int);'));
  assert.deepEqual(await codes(), [1, 'stop dump-not-of-site', 'warn new-folder-not-empty']);
});

test('without the right to write, nothing is written and the place is named', async t => {
  if (process.getuid?.() !== 0) return t.skip('needs root, to run the program as somebody else');
  if ((await run(['--version'], { cwd: '/', uid: 65534 })).code !== 0) {
    return t.skip('the program lies where nobody else may read it');
  }
  const root = folder(t);
  const move = await makeClub(root);
  for (const path of [root, join(root, 'old')]) chmodSync(path, 0o755);
  const out = join(root, 'closed');
  mkdirSync(out, { mode: 0o755 });
  const dump = join(root, 'old/club.sql.gz');
  const ran = await run(['rewrite', dump, ...from, '--out', join(out, 'new.sql')], { cwd: '/', uid: 65534 });
  assert.equal(ran.code, 3, ran.stderr);
  assert.match(ran.stderr, /permission is denied/);
  assert.deepEqual(readdirSync(out), []);
  chmodSync(join(move, '.env'), 0o600);
  const survey = await run(['survey', '--sheet', join(move, 'move.yaml')], {
    cwd: '/',
    uid: 65534,
    env: { NEW_DB_PASSWORD: 'x' },
  });
  assert.notEqual(survey.code, 0);
  assert.match(survey.stderr, /permission is denied/);
});

test('on a full disk nothing looks whole, and with room the run goes on', async t => {
  const disk = smallDisk(t, '512k');
  if (!disk) return;
  const small = disk.folder;
  const root = folder(t);
  const dump = join(root, 'big.sql');
  writeFileSync(
    dump,
    `INSERT INTO t VALUES ${Array.from({ length: 9000 }, (_, n) => `(${n},'${'x'.repeat(90)}${n}')`).join(',')};\n`,
  );
  const ran = await run(['rewrite', dump, ...from, '--out', join(small, 'new.sql')], { cwd: root });
  assert.equal(ran.code, 5, ran.stderr);
  assert.match(ran.stderr, /the disk is full/);
  assert.deepEqual(readdirSync(small), []);

  const move = await makeClub(root, sheet => sheet.replaceAll('../new/', `${small}/`));
  const first = await run(['go', '--yes'], { cwd: move });
  assert.ok([1, 5].includes(first.code!), first.stderr);
  assert.match(first.stdout + first.stderr, /disk is full|room-too-small/);
  assert.ok(!readdirSync(small).includes('htdocs') && !readdirSync(small).includes('finished.sql.gz'));
  disk.grow('20m');
  const second = await run(['go', '--yes'], { cwd: move });
  assert.equal(second.code, 0, second.stderr + second.stdout);
});

test('a crate that was changed by hand is damage', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  assert.equal((await run(['pack'], { cwd: move })).code, 0);
  const file = join(move, 'crate/files/wp-content/uploads/2025/01/curlew.png');
  const taken = readFileSync(file);
  truncateSync(file, taken.length - 1);
  assert.equal((await run(['rewrite'], { cwd: move })).code, 0);
  const ran = await run(['deliver', '--yes'], { cwd: move });
  assert.equal(ran.code, 4, ran.stderr);
  assert.match(ran.stderr, /curlew\.png/);
  assert.ok(!readdirSync(join(root, 'new')).includes('htdocs'));
  assert.equal((await run(['pack', '--again'], { cwd: move })).code, 0);
  const stale = await run(['deliver', '--yes'], { cwd: move });
  assert.equal(stale.code, 2);
  assert.match(stale.stderr, /has changed since its dump was rewritten/);
  assert.equal((await run(['rewrite'], { cwd: move })).code, 0);
  truncateSync(join(move, 'crate/database.moved.sql.gz'), 500);
  assert.equal((await run(['deliver', '--yes'], { cwd: move })).code, 4);
  assert.equal((await run(['rewrite', '--again'], { cwd: move })).code, 0);
  const list = join(move, 'crate/files.ndjson');
  writeFileSync(list, readFileSync(list, 'utf8').replace('robots.txt', '../robots.txt'));
  assert.equal((await run(['deliver', '--yes'], { cwd: move })).code, 4);
  assert.ok(!readdirSync(root).includes('robots.txt') && !readdirSync(join(root, 'new')).includes('htdocs'));
  // To pack again, as it says, puts it right.
  for (const step of ['pack', 'rewrite']) assert.equal((await run([step, '--again'], { cwd: move })).code, 0);
  assert.equal((await run(['deliver', '--yes', '--dry-run'], { cwd: move })).code, 0);
  // What is noted of a delivery is no part of the crate: another remedy is reported, and it helps.
  assert.equal((await run(['deliver', '--yes'], { cwd: move })).code, 0);
  const noted = join(move, 'results/delivered.ndjson');
  writeFileSync(noted, readFileSync(noted, 'utf8').replace('{', '['));
  const unread = await run(['deliver', '--yes', '--again'], { cwd: move });
  assert.equal(unread.code, 4);
  assert.match(unread.stderr, /delivered\.ndjson.*\n.*\n?.*Remove this file/);
  rmSync(noted);
  assert.equal((await run(['deliver', '--yes', '--again'], { cwd: move })).code, 0);
  truncateSync(join(move, 'crate/database.sql.gz'), 100);
  assert.equal((await run(['rewrite', '--again'], { cwd: move })).code, 4);
});
