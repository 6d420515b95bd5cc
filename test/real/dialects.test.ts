import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { type ByteString, bytesOfText } from '../../src/core/bytes.js';
import { encodeSerialized } from '../../src/core/serialized/encode.js';
import { escapeForLiteral } from '../../src/core/sql/literal.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { databaseForTests } from './database.js';

const started = databaseForTests();

const oldAddress = 'https://old.example/site';
const newAddress = 'https://new.example';

/** The rows of the table at either end: text, bytes, serialized values and JSON with the address in them. */
function cells(address: string): { text: string; bytes: string; serialized: string; json: string }[] {
  return Array.from({ length: 40 }, (_, n) => ({
    text: `it's "${n}" \\ \n\r\t\0\x1a % _ é🚣 ${n % 3 ? `${address}/a?x=${n}` : ''} ;-- /* '' \`x\``,
    bytes: `\xff\x00\x80'${n % 2 ? `${address}/b` : ''}\\\xfe`,
    serialized: Buffer.from(
      encodeSerialized({
        link: `${address}/é/${n}`,
        deep: [{ "k'": `<a href="${address}">"'\\</a>` }, n, n / 2, null, true],
      }),
      'latin1',
    ).toString(),
    json: JSON.stringify({
      url: `${address}/j/${n}`,
      inner: Buffer.from(encodeSerialized([address]), 'latin1').toString(),
    }).replaceAll('/', n % 2 ? '\\/' : '/'),
  }));
}

function literal(bytes: string): string {
  return `'${escapeForLiteral(bytes, { backslash: true })}'`;
}

const optionSets = [
  [],
  ['--hex-blob'],
  ['--skip-extended-insert'],
  ['--complete-insert', '--skip-comments'],
  ['--skip-opt', '--quick'],
  ['--replace', '--no-create-info', '--skip-triggers'],
  ['--insert-ignore', '--compact', '--no-create-info', '--skip-triggers'],
  ['--compatible=ansi'],
];

test('what the database’s own dump program writes with any option is rewritten, loaded, and right cell by cell', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump')) return;
  const database = started();
  const root = folder(t);
  const structure =
    'CREATE TABLE sr4_t (id int primary key auto_increment, txt longtext, bin longblob, ser longtext, js longtext, dec1 decimal(12,4), dt datetime(6), bits bit(9), nul text) DEFAULT CHARSET=utf8mb4;';
  const insert = cells(oldAddress).map(
    ({ text, bytes, serialized, json }, n) =>
      `INSERT INTO sr4_t VALUES (${n + 1},${literal(bytesOfText(text))},_binary ${literal(bytes)},${literal(bytesOfText(serialized))},${literal(bytesOfText(json))},${n}.1250,'2025-01-0${1 + (n % 9)} 10:00:00.000${n % 10}00',b'101',NULL);`,
  );
  const trigger = `CREATE TRIGGER sr4_trg BEFORE INSERT ON sr4_t FOR EACH ROW SET NEW.nul = IF(NEW.id > 1000, 'x;y', NULL);`;
  const view = 'CREATE VIEW sr4_v AS SELECT sr4_t.id AS id, sr4_t.txt FROM sr4_t;';
  database.sql('CREATE DATABASE d_old CHARACTER SET utf8mb4');
  database.sql(Buffer.from([structure, ...insert, trigger, view].join('\n'), 'latin1'), 'd_old');
  const columns = 'SELECT id,HEX(txt),HEX(bin),HEX(ser),HEX(js),dec1,dt,HEX(bits),nul FROM';
  const expected = cells(newAddress)
    .map(({ text, bytes, serialized, json }, n) => {
      const hex = (value: string, encoding: 'utf8' | 'latin1') =>
        Buffer.from(value, encoding).toString('hex').toUpperCase();
      return `${n + 1}\t${hex(text, 'utf8')}\t${hex(bytes, 'latin1')}\t${hex(serialized, 'utf8')}\t${hex(json, 'utf8')}\t${n}.1250\t2025-01-0${1 + (n % 9)} 10:00:00.000${n % 10}00\t5\tNULL\n`;
    })
    .join('');
  for (const [i, options] of optionSets.entries()) {
    const dump = join(root, `${i}.sql`);
    writeFileSync(dump, database.dump('d_old', ...options));
    const wish = ['--from', oldAddress, '--to', newAddress, '--prefix-from', 'sr4_', '--prefix-to', 'row_'];
    const ran = await run(['rewrite', dump, ...wish, '--out', `${dump}.new`, '--json'], { cwd: root });
    assert.equal(ran.code, 0, `${options}: ${ran.stderr}`);
    const { summary } = JSON.parse(ran.stdout);
    const dry = await run(['rewrite', dump, ...wish, '--dry-run', '--json'], { cwd: root });
    assert.deepEqual(JSON.parse(dry.stdout).summary, summary);
    assert.equal(summary.totals.damaged, 0);
    assert.equal(summary.rows, 40, String(options));
    database.sql(`DROP DATABASE IF EXISTS d_new; CREATE DATABASE d_new CHARACTER SET utf8mb4;`);
    if (options.includes('--no-create-info')) database.sql(structure.replace('sr4_t', 'row_t'), 'd_new');
    database.sql(readFileSync(`${dump}.new`), 'd_new');
    assert.equal(database.sql(`${columns} row_t ORDER BY id`, 'd_new'), expected, String(options));
    const none = await run(
      ['rewrite', dump, '--from', 'https://no.example', '--to', 'https://x.example', '--out', `${dump}.same`],
      { cwd: root },
    );
    assert.equal(none.code, 0);
    assert.deepEqual(readFileSync(`${dump}.same`), readFileSync(dump));
    const twice = await run(
      ['rewrite', `${dump}.new`, '--from', oldAddress, '--to', newAddress, '--out', `${dump}.twice`],
      { cwd: root },
    );
    assert.equal(twice.code, 0);
    assert.deepEqual(readFileSync(`${dump}.twice`), readFileSync(`${dump}.new`));
    const back = ['--from', newAddress, '--to', oldAddress, '--prefix-from', 'row_', '--prefix-to', 'sr4_'];
    assert.equal(
      (await run(['rewrite', `${dump}.new`, ...back, '--out', `${dump}.back`], { cwd: root })).code,
      0,
    );
    assert.deepEqual(readFileSync(`${dump}.back`), readFileSync(dump));
    if (options.length === 0) {
      assert.equal(database.sql('SELECT COUNT(*) FROM row_v', 'd_new'), '40\n');
      database.sql('INSERT INTO row_t (id) VALUES (2000)', 'd_new');
      assert.equal(database.sql('SELECT nul FROM row_t WHERE id=2000', 'd_new'), 'x;y\n');
    }
  }
});

test('a UTF-8 site dumped as latin1, a latin1 site dumped as UTF-8, and text encoded twice keep lengths that are true', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump')) return;
  const database = started();
  const root = folder(t);
  /** What the site wrote over its own connection, in hex. */
  const held = (address: string, encoding: 'utf8' | 'latin1') => {
    const bytes = (text: string) => Buffer.from(text, encoding).toString('latin1') as ByteString;
    const list = Array.from({ length: 9 }, (_, n) => bytes(`é ß ${address}/ü/${n} "`));
    const value = `a:${list.length}:{${list.map((text, n) => `i:${n};s:${text.length}:"${text}";`).join('')}}`;
    return Buffer.from(value, 'latin1').toString('hex').toUpperCase();
  };
  const ways: [column: string, site: string, encoding: 'utf8' | 'latin1', dumped: string][] = [
    ['utf8mb4', 'utf8mb4', 'utf8', 'latin1'],
    ['latin1', 'latin1', 'latin1', 'utf8mb4'],
    ['utf8mb4', 'latin1', 'utf8', 'utf8mb4'],
  ];
  for (const [i, [column, site, encoding, dumped]] of ways.entries()) {
    // The bytes go in as the site's connection calls them, and come out for it again.
    database.sql(
      `CREATE OR REPLACE DATABASE sets; USE sets; CREATE TABLE t (v text CHARACTER SET ${column}); INSERT INTO t VALUES (CONVERT(x'${held(oldAddress, encoding)}' USING ${site}))`,
    );
    const dump = join(root, `${i}.sql`);
    writeFileSync(dump, database.dump('sets', `--default-character-set=${dumped}`));
    const ran = await run(
      ['rewrite', dump, '--from', oldAddress, '--to', newAddress, '--out', `${dump}.new`, '--json'],
      { cwd: root },
    );
    assert.equal(ran.code, 0, ran.stderr);
    assert.equal(JSON.parse(ran.stdout).summary.totals.damaged, 0);
    database.sql('CREATE OR REPLACE DATABASE sets');
    database.sql(readFileSync(`${dump}.new`), 'sets');
    assert.equal(
      database.sql(`SELECT HEX(CONVERT(v USING ${site})) FROM sets.t`),
      `${held(newAddress, encoding)}\n`,
      `${column}, ${site}, ${dumped}`,
    );
  }
});

test('a dump under NO_BACKSLASH_ESCAPES is rewritten, loaded, and right cell by cell', async t => {
  if (!needs(t, 'mariadbd', 'mariadb-install-db', 'mariadb')) return;
  const database = started();
  const root = folder(t);
  const rows = (address: string) =>
    cells(address).map(({ text, serialized, json }) => [text.replace('\0', ''), serialized, json]);
  const dump = join(root, 'plain.sql');
  const written = rows(oldAddress).map(
    row => `(${row.map(one => `'${escapeForLiteral(one, { backslash: false })}'`).join(',')})`,
  );
  writeFileSync(
    dump,
    `SET NAMES utf8mb4;\nSET SQL_MODE='NO_BACKSLASH_ESCAPES';\nCREATE TABLE t (txt text, ser text, js text);\nINSERT INTO t VALUES ${written.join(',')};\n`,
  );
  const ran = await run(['rewrite', dump, '--from', oldAddress, '--to', newAddress, '--out', `${dump}.new`], {
    cwd: root,
  });
  assert.equal(ran.code, 0, ran.stderr);
  database.sql('CREATE OR REPLACE DATABASE plain CHARACTER SET utf8mb4');
  database.sql(readFileSync(`${dump}.new`), 'plain');
  const hex = (text: string) => Buffer.from(text).toString('hex').toUpperCase();
  assert.equal(
    database.sql('SELECT HEX(txt), HEX(ser), HEX(js) FROM plain.t'),
    rows(newAddress)
      .map(row => `${row.map(hex).join('\t')}\n`)
      .join(''),
  );
});

test('tables of every column type come out of every kind of dump as the database’s own REPLACE makes them', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, 'mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump')) return;
  const database = started();
  const root = folder(t);
  const types = readFileSync(join(import.meta.dirname, 'types.sql'), 'utf8').replace(
    /^(?:CREATE EVENT|CREATE PROC|CREATE FUNC).*$/gm,
    '',
  );
  const columns = ['vc', 'vl', 'vb', 'tx', 'lt', 'bl', 'js'];
  const sown = `UPDATE t_all SET vc = concat(id, ' ${oldAddress}/a'), vl = concat('é ${oldAddress}'), vb = concat(x'ff00', '${oldAddress}', x'5c27'), tx = concat(ifnull(tx, ''), ' ${oldAddress}/ü'), lt = concat('"', ifnull(lt, ''), '//old.example/site'), bl = concat(x'c328', '${oldAddress}'), js = '{"u": ["${oldAddress}/j", 1.50]}'`;
  const replaced = columns.map(
    name =>
      `${name} = REPLACE(REPLACE(${name}, '${oldAddress}', '${newAddress}'), '//old.example/site', '//new.example')`,
  );
  for (const name of ['t_old', 't_want'])
    database.sql(
      `CREATE DATABASE ${name} CHARACTER SET utf8mb4; USE ${name}; SET sql_mode='';\n${types}\n${sown};`,
    );
  database.sql(`USE t_want; SET sql_mode=''; UPDATE t_all SET ${replaced.join(', ')}`);
  const canonical = (name: string) =>
    database
      .dump(
        name,
        '--hex-blob',
        '--skip-comments',
        '--skip-triggers',
        '--order-by-primary',
        '--ignore-table',
        `${name}.a_log`,
      )
      .toString('latin1')
      .replace(/DEFINER=`[^`]*`@`[^`]*`|\/\*!500\d\d .*?\*\//g, '');
  const wanted = canonical('t_want');
  for (const [i, options] of optionSets.entries()) {
    if (options.includes('--no-create-info') || options.includes('--compatible=ansi')) continue;
    const dump = join(root, `${i}.sql`);
    writeFileSync(dump, database.dump('t_old', ...options, '--create-options'));
    const ran = await run(
      ['rewrite', dump, '--from', oldAddress, '--to', newAddress, '--out', `${dump}.new`],
      {
        cwd: root,
      },
    );
    assert.equal(ran.code, 0, `${options}: ${ran.stderr}`);
    database.sql('CREATE OR REPLACE DATABASE t_new CHARACTER SET utf8mb4');
    database.sql(readFileSync(`${dump}.new`), 't_new');
    assert.equal(canonical('t_new'), wanted, String(options));
  }
});
