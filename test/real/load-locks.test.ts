import assert from 'node:assert/strict';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { encodedSql } from '../../src/core/sql/encoded-sql.js';
import { loadDump } from '../../src/ends/database/server/load/load.js';
import { beginLoad } from '../../src/ends/database/server/load/note.js';
import { serverOf } from '../../src/ends/database/server/probe.js';
import { openSession } from '../../src/ends/database/server/session/open-session.js';
import { bench } from '../help/bench.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms } from './cms.js';
import { databaseForTests, type OwnDatabase, until } from './database.js';

const started = databaseForTests();

/** A database with a table of two gaps, and a session of it for the load and for somebody who is in its way. */
async function prepared(t: TestContext, database: OwnDatabase, name: string) {
  database.sql(
    `CREATE DATABASE ${name}; CREATE TABLE ${name}.tide (id INT PRIMARY KEY) ENGINE=InnoDB; CREATE TABLE ${name}.heavy (id INT PRIMARY KEY AUTO_INCREMENT, n INT) ENGINE=InnoDB; INSERT INTO ${name}.tide VALUES (500)`,
  );
  const place = { host: '127.0.0.1', port: database.port, name, user: 'locks', password: 'ebb' };
  database.sql(`CREATE OR REPLACE USER locks IDENTIFIED BY 'ebb'; GRANT ALL ON *.* TO locks`);
  const open = async () => {
    const session = await openSession({
      place: { ...place, socket: undefined },
      through: undefined,
    });
    t.after(() => session.close());
    return session;
  };
  const [loading, other] = [await open(), await open()];
  const dump = join(folder(t), 'dump.sql');
  writeFileSync(
    dump,
    "CREATE USER 'gull'@'localhost' IDENTIFIED BY 'low water';\nINSERT INTO `tide` VALUES (1),(1000);\n",
  );
  const load = async () => {
    const position = await beginLoad(loading, 'able_porter_load_test', 'x'.repeat(64));
    const server = await serverOf(loading, name);
    return loadDump(loading, dump, position, { bench, server, signal: AbortSignal.timeout(60_000) });
  };
  const waits = () => until('a wait for the lock', () => database.waitsForLock());
  const rows = () => database.sql(`SELECT id FROM ${name}.tide ORDER BY id`).trim().split('\n');
  return { loading, other, load, waits, rows };
}

test('a lock that is not given in time is waited for again, and nothing is doubled', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const { loading, other, load, waits, rows } = await prepared(t, started(), 'lock_wait');
  await loading.run(encodedSql('SET SESSION innodb_lock_wait_timeout = 1'));
  await other.run(encodedSql('START TRANSACTION'));
  await other.rows(encodedSql('SELECT id FROM tide WHERE id = 1000 FOR UPDATE'));
  const loaded = load();
  await waits();
  // Longer than the load waits at a time.
  await new Promise(resolve => setTimeout(resolve, 1500));
  await other.run(encodedSql('COMMIT'));
  // What is not for this database is left out, and reported without a value of it.
  assert.deepEqual(
    (await loaded).leftOut.map(({ head }) => head),
    ['CREATE USER'],
  );
  assert.deepEqual(rows(), ['1', '500', '1000']);
});

test('a load that is chosen as the victim of a deadlock is done again from its last transaction', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  const { other, load, waits, rows } = await prepared(t, database, 'deadlock');
  const deadlocks = () => Number(/\d+/.exec(database.sql("SHOW GLOBAL STATUS LIKE 'Innodb_deadlocks'"))![0]);
  const before = deadlocks();
  await other.run(encodedSql('START TRANSACTION'));
  // The transaction that has done more is kept.
  await other.run(encodedSql('INSERT INTO heavy (n) VALUES (1),(2),(3),(4),(5),(6),(7),(8)'));
  await other.rows(encodedSql('SELECT id FROM tide WHERE id = 1000 FOR UPDATE'));
  const loaded = load();
  await waits();
  await other.run(encodedSql('INSERT INTO tide VALUES (1)'));
  assert.equal(deadlocks(), before + 1);
  await other.run(encodedSql('ROLLBACK'));
  await loaded;
  assert.deepEqual(rows(), ['1', '500', '1000']);
});
