import assert from 'node:assert/strict';
import { appendFileSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync } from 'node:zlib';
import { knownServer } from '../../src/core/database/known-servers.js';
import { encodedSql } from '../../src/core/sql/encoded-sql.js';
import { openSession } from '../../src/ends/database/server/session/open-session.js';
import { folder, operationsOf, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { databaseForTests, type OwnDatabase, until } from './database.js';

const started = databaseForTests();
const programs = ['mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump'];
const old = 'https://old.example/site';
const next = 'https://new.example';
const pair = ['--from', old, '--to', next];

/** Tables whose rows are hard to change by a key. */
const tables = `
CREATE TABLE plain (id bigint PRIMARY KEY, v text, n varchar(60) CHARACTER SET latin1, touched timestamp NOT NULL DEFAULT '2020-01-01 00:00:00' ON UPDATE current_timestamp(), d date DEFAULT '0000-00-00');
INSERT INTO plain (id, v, n) SELECT seq, concat('é ', IF(seq % 3, 'x', '${old}/'), seq, '  '), IF(seq % 5, 'ü', 'ü ${old}') FROM seq_1_to_5000;
CREATE TABLE two (a varchar(30), b int, v longtext, PRIMARY KEY (a, b)) COLLATE utf8mb4_general_ci;
INSERT INTO two SELECT IF(seq % 2, 'a''\\\\', 'É'), seq, concat('a:1:{i:0;s:', length('${old}/ß') , ':"${old}/ß";}') FROM seq_1_to_3000;
CREATE TABLE keyed (u varchar(80) NOT NULL UNIQUE, v blob); INSERT INTO keyed VALUES ('${old}/1', x'00ff'), ('b', concat(x'00', '${old}')), ('${old}/2', NULL);
CREATE TABLE short (id int PRIMARY KEY, v varchar(30)); INSERT INTO short VALUES (1, 'http://a.example/p'), (2, 'http://a.example/0123456789012');
CREATE TABLE keyless (v text); INSERT INTO keyless VALUES ('${old}'), ('${old}'), ('HTTPS://OLD.example/site '), (NULL), ('other');
CREATE TABLE upper_and_lower (v varchar(90) COLLATE utf8mb4_general_ci PRIMARY KEY, w text) ENGINE=MyISAM; INSERT INTO upper_and_lower VALUES ('${old}/A', 'x'), ('é', '//old.example/site');`;

function make(database: OwnDatabase, name: string): void {
  database.sql(
    `SET sql_mode=''; CREATE DATABASE ${name} CHARACTER SET utf8mb4; CREATE USER IF NOT EXISTS 'r'@'localhost' IDENTIFIED BY 'p''q'; GRANT ALL ON ${name}.* TO 'r'@'localhost'; USE ${name}; ${tables}`,
  );
}

test('a live database is rewritten as its dump is, to the byte, and restored', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  const rows = (name: string) => database.dump(name, '--skip-comments', '--order-by-primary', '--hex-blob');
  make(database, 'live');
  make(database, 'dumped');
  const before = rows('live');
  writeFileSync(join(root, 'old.sql'), before);
  const byDump = await run(['rewrite', 'old.sql', ...pair, '--out', 'new.sql', '--json'], { cwd: root });
  assert.equal(byDump.code, 0, byDump.stderr);
  database.sql(
    `DROP DATABASE dumped; CREATE DATABASE dumped; USE dumped;\n${readFileSync(join(root, 'new.sql'))}`,
  );
  const url = `mysql://r@127.0.0.1:${database.port}/live`;
  const at = { cwd: root, env: { DATABASE_PASSWORD: "p'q" } };

  const refused = await run(['rewrite', url, ...pair], at);
  assert.equal(refused.code, 2);
  assert.deepEqual(rows('live'), before);
  const dry = await run(['rewrite', url, ...pair, '--dry-run', '--json'], at);
  assert.equal(dry.code, 0, dry.stderr);
  assert.deepEqual(rows('live'), before);
  const real = await run(['rewrite', url, ...pair, '--yes', '--json'], at);
  assert.equal(real.code, 0, real.stderr);
  assert.equal(rows('live').toString('latin1'), rows('dumped').toString('latin1'));

  const totals = ({ stdout }: { stdout: string }) => JSON.parse(stdout).summary.totals;
  assert.deepEqual(totals(real), totals(dry));
  assert.deepEqual(totals(real).forms, totals(byDump).forms);
  assert.ok(!`${real.stdout}${real.stderr}`.includes("p'q"));
  const again = await run(['rewrite', url, ...pair, '--yes', '--json'], at);
  assert.equal(totals(again).occurrences, 0);

  const undone = await run(['undo', 'live.before-rewriting.sql', '--database', url, '--yes', '--json'], at);
  assert.equal(undone.code, 0, undone.stderr);
  // Two values of the table without a key had become one.
  const withoutKeyless = (dump: Buffer) => dump.toString('latin1').replace(/INSERT INTO `keyless`.*\n/, '');
  assert.equal(withoutKeyless(rows('live')), withoutKeyless(before));
});

test('killed at twelve points and run again, a live database ends the same, and is restored the same', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  make(database, 'killed');
  database.sql('DROP TABLE killed.keyless');
  const rows = () =>
    database.dump('killed', '--skip-comments', '--order-by-primary', '--hex-blob').toString('latin1');
  const before = rows();
  const url = `mysql://r@127.0.0.1:${database.port}/killed`;
  const at = { cwd: root, env: { DATABASE_PASSWORD: "p'q" } };
  const dump = database.dump('killed', '--add-drop-table');
  const operations = await operationsOf(t, ['rewrite', url, ...pair, '--yes'], at);
  for (const file of readdirSync(root).filter(name => name.startsWith('killed.'))) rmSync(join(root, file));
  database.sql(dump, 'killed');
  let broken = 0;
  for (let n = 1; n <= 12; n++) {
    const killAt = Math.ceil((operations * n) / 14);
    const killed = await run(['rewrite', url, ...pair, '--yes'], { ...at, killAt });
    if (killed.code === null) broken++;
  }
  assert.ok(broken > 3, `only ${broken} were killed`);
  assert.equal((await run(['rewrite', url, ...pair, '--yes'], at)).code, 0);
  assert.ok(!rows().includes(Buffer.from(old).toString('hex').toUpperCase()) && !rows().includes(old));
  const kept = readdirSync(root).filter(name => name.startsWith('killed.before-rewriting'));
  assert.ok(kept.length > 0);
  // What was being written when it was killed had not changed anything yet.
  appendFileSync(join(root, kept.at(-1)!), "UPDATE `plain` SET `v` = 'cut o");
  for (const file of kept)
    assert.equal((await run(['undo', file, '--database', url, '--yes'], at)).code, 0, file);
  assert.equal(rows(), before);
});

test('a row that somebody changes meanwhile, and one that no longer fits, are left and reported', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  make(database, 'busy');
  const at = { cwd: root, env: { DATABASE_PASSWORD: "p'q" } };
  const url = `mysql://r@127.0.0.1:${database.port}/busy`;
  const tooLong = await run(
    ['rewrite', url, '--from', 'http://a.example', '--to', 'https://longer-name.example', '--yes', '--json'],
    at,
  );
  assert.equal(tooLong.code, 0, tooLong.stderr);
  const { findings } = JSON.parse(tooLong.stdout) as { findings: { code: string; place: string }[] };
  assert.deepEqual(
    findings.filter(({ code }) => code === 'row-refused').map(({ place }) => place),
    ['short'],
  );
  assert.equal(
    database.sql('SELECT v FROM busy.short ORDER BY id'),
    'https://longer-name.example/p\nhttp://a.example/0123456789012\n',
  );
  // Another session has changed a row, unseen by the reader, until the rewriting waits for it.
  const other = await openSession({
    place: {
      host: '127.0.0.1',
      port: database.port,
      socket: undefined,
      name: 'busy',
      user: 'r',
      password: "p'q",
    },
    through: undefined,
  });
  t.after(() => other.close());
  await other.run(encodedSql('START TRANSACTION'));
  await other.run(encodedSql("UPDATE plain SET v = 'mine' WHERE id = 3"));
  const running = run(['rewrite', url, ...pair, '--only', 'plain.v', '--yes', '--json'], at);
  await until('a wait for the lock', () => database.waitsForLock());
  await other.run(encodedSql('COMMIT'));
  const told = await running;
  assert.equal(told.code, 0, told.stderr);
  assert.equal(database.sql('SELECT v FROM busy.plain WHERE id = 3'), 'mine\n');
  assert.ok(told.stdout.includes('row-changed-meanwhile'), told.stdout);
});

test('a dump in pieces, fitted to a server, loads piece by piece; each piece stays under the limit', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  make(database, 'whole');
  database.sql(
    "USE whole; CREATE TABLE modern (v varchar(20)) COLLATE utf8mb4_uca1400_ai_ci; CREATE VIEW seen AS SELECT id FROM plain; CREATE TABLE zero (d datetime NOT NULL DEFAULT '2000-01-01'); SET sql_mode=''; INSERT INTO zero VALUES ('0000-00-00')",
  );
  const dump = database
    .dump('whole')
    .toString('latin1')
    .replace(/^.*OLD_SQL_MODE.*$/gm, '');
  writeFileSync(join(root, 'old.sql'), dump, 'latin1');
  const cut = await run(
    ['rewrite', 'old.sql', ...pair, '--out', 'pieces', '--parts', '8kB', '--for', 'mariadb-10.6', '--json'],
    { cwd: root },
  );
  assert.equal(cut.code, 0, cut.stderr);
  const pieces = readdirSync(join(root, 'pieces')).filter(name => name.endsWith('.gz'));
  assert.ok(pieces.length > 3);
  database.sql(
    "CREATE DATABASE loaded; SET GLOBAL sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE'",
  );
  for (const name of pieces.sort()) {
    const bytes = readFileSync(join(root, 'pieces', name));
    assert.ok(bytes.length <= 8000, name);
    database.sql(`USE loaded;\n${gunzipSync(bytes)}`);
  }
  database.sql('SET GLOBAL sql_mode = DEFAULT');
  assert.equal(database.sql(`SELECT COUNT(*) FROM loaded.plain WHERE v LIKE '%${next}%'`), '1666\n');
  assert.equal(database.sql('SELECT COUNT(*) FROM loaded.seen'), '5000\n');
  assert.equal(
    database.sql(
      "SELECT COLLATION_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = 'loaded' AND TABLE_NAME = 'modern'",
    ),
    'utf8mb4_unicode_520_ci\n',
  );
  const fitted = JSON.parse(cut.stdout).findings.find(({ code }: { code: string }) => code === 'dump-fitted');
  assert.match(fitted.what, /utf8mb4_uca1400_ai_ci → utf8mb4_unicode_520_ci/);
});

test('what is known of a server by its name is what the server itself says', async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const [version] = /\d+\.\d+/.exec(database.sql('SELECT VERSION()'))!;
  const { has, packet } = knownServer(`mariadb-${version}`);
  const column = (sql: string) =>
    database
      .sql(sql)
      .trim()
      .split('\n')
      .map(line => line.split('\t')[0]!)
      .sort();
  // A server knows one character set by two names, and lists one.
  const listed = (names: ReadonlySet<string>) => [...names].filter(name => !/^utf8(?:_|$)/.test(name)).sort();
  assert.deepEqual(listed(has.charsets), column('SHOW CHARACTER SET'));
  assert.deepEqual(listed(has.collations), column('SHOW COLLATION'));
  assert.equal(String(packet), column('SELECT @@global.max_allowed_packet')[0]);
});
