import assert from 'node:assert/strict';
import { type TestContext, test } from 'node:test';
import { encodedSql, sql } from '../../src/core/sql/encoded-sql.js';
import { KeptSessions } from '../../src/ends/database/server/session/kept-sessions.js';
import { needs } from '../help/real.js';
import { cmsPrograms } from './cms.js';
import { databaseForTests } from './database.js';

const started = databaseForTests();

function opened(t: TestContext) {
  const database = started();
  database.sql(
    "CREATE DATABASE IF NOT EXISTS together; CREATE OR REPLACE USER together IDENTIFIED BY 'ebb'; GRANT ALL ON together.* TO together; CREATE OR REPLACE TABLE together.tide (id INT PRIMARY KEY, v LONGTEXT)",
  );
  const place = {
    host: '127.0.0.1',
    port: database.port,
    name: 'together',
    user: 'together',
    password: 'ebb',
  };
  const route = { place: { ...place, socket: undefined }, through: undefined };
  const kept = new KeptSessions();
  kept.begin();
  t.after(() => kept.close());
  return { database, route, kept, open: () => kept.take(route) };
}

test('statements that go together each get their own answer, and what fails fails alone', async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const { open, kept } = opened(t);
  const session = await open();
  const many = (n: number) => sql`SELECT seq, NULL FROM seq_1_to_${n}`;
  const [one, none, failed, effect, rows, text] = await Promise.all([
    session.value(sql`SELECT 'one;two' -- a comment`),
    session.rows(sql`SELECT 1 FROM tide`),
    session.rows(sql`SELECT 1 FROM nowhere`).catch((error: { errno?: number }) => error.errno),
    session.run(sql`INSERT INTO tide VALUES (1, 'ebb'), (2, 'flow')`),
    session.rows(many(3000)),
    session.value(sql`SELECT v FROM tide WHERE id = 2`),
  ]);
  assert.deepEqual([one, none, failed, effect.affected, text], ['one;two', [], 1146, 2, 'flow']);
  assert.equal(rows.length, 3000);
  assert.deepEqual(rows.at(-1), ['3000', null]);

  // Of those that belong to one another none runs after one that failed, also where they fill several packets.
  const long = 'x'.repeat(700_000);
  const put = (id: number) => sql`INSERT INTO tide VALUES (${id}, ${encodedSql(`'${long}'`)})`;
  const done = await session.together(
    [put(11), put(12), put(1), put(13), put(14)].map(one => ({ sql: one })),
  );
  assert.equal(done.effects.length, 2);
  assert.equal(done.failed?.at, 2);
  assert.equal((done.failed?.error as { errno?: number } | undefined)?.errno, 1062);
  assert.equal(await session.value(sql`SELECT GROUP_CONCAT(id ORDER BY id) FROM tide`), '1,2,11,12');

  // Whoever takes rows and cannot continue is told; the others get theirs.
  const [broken, whole] = await Promise.allSettled([
    session.each(many(10), () => {
      throw new Error('no more');
    }),
    session.rows(many(10)),
  ]);
  assert.equal(broken.status, 'rejected');
  assert.equal(whole.status === 'fulfilled' && whole.value.length, 10);
  await kept.giveBack(session);
});

test('a connection that is lost ends all statements, and one that is used again remembers nothing', async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const { open, kept, database } = opened(t);
  const first = await open();
  const { number } = first;
  await first.runAll(sql`SET NAMES latin1`, sql`SET SESSION sql_mode = 'ANSI_QUOTES'`, sql`SET @tide = 1`);
  await first.value(sql`SELECT GET_LOCK('tide', 0)`);
  await kept.giveBack(first);
  const again = await open();
  assert.equal(again.number, number, 'the same connection');
  assert.deepEqual(
    await again.rows(
      sql`SELECT @tide, @@character_set_client, @@sql_mode LIKE '%ANSI%', IS_USED_LOCK('tide')`,
    ),
    [[null, 'utf8mb4', '0', null]],
  );
  assert.deepEqual(kept.numbersOf(again.route), [number]);
  const ended = Promise.allSettled([
    again.value(sql`SELECT SLEEP(20)`),
    again.value(sql`SELECT 2`),
    again.run(sql`DELETE FROM tide`),
  ]);
  await new Promise(resolve => setTimeout(resolve, 500));
  database.sql(`KILL ${number}`);
  assert.deepEqual(
    (await ended).map(({ status }) => status),
    ['rejected', 'rejected', 'rejected'],
  );
  assert.equal(again.isOver, true);
  kept.drop(again);
  const other = await open();
  assert.notEqual(other.number, number);
  await kept.giveBack(other);
});
