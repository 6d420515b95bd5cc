import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { bytesOfText } from '../../src/core/bytes.js';
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
  timeout: 200_000,
}, async t => {
  if (!needs(t, 'mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump')) return;
  const database = started();
  assert.ok(database, 'the database server did not start');
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
    if (options.length === 0) {
      assert.equal(database.sql('SELECT COUNT(*) FROM row_v', 'd_new'), '40\n');
      database.sql('INSERT INTO row_t (id) VALUES (2000)', 'd_new');
      assert.equal(database.sql('SELECT nul FROM row_t WHERE id=2000', 'd_new'), 'x;y\n');
    }
  }
});
