import assert from 'node:assert/strict';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { effort } from '../help/effort.js';
import { folder, numbers, operationsOf, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { databaseForTests, type OwnDatabase, until } from './database.js';

const started = databaseForTests();
const programs = ['mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump'];
const times = effort(5, 50);
const address = 'https://club.saltmarsh.example/site';

/** Some 30 MB of a site's tables; one of them is kept without transactions and without a key. */
function fill(database: OwnDatabase, name: string): void {
  const lines = [
    `CREATE DATABASE ${name} CHARACTER SET utf8mb4; USE ${name}; SET max_recursive_iterations = 100000;`,
  ];
  for (let i = 0; i < 8; i++) {
    const keyless = i === 5;
    lines.push(
      `CREATE TABLE sr4_part${i} (${keyless ? 'id int, v text' : 'id int AUTO_INCREMENT PRIMARY KEY, v text, n int, KEY n (n)'}) ENGINE=${keyless ? 'MyISAM' : 'InnoDB'};`,
      `INSERT INTO sr4_part${i} (id, v) SELECT seq, CONCAT('a:1:{s:4:"link";s:${address.length + 10}:"${address}/', LPAD(seq, 9, '0'), '";}', REPEAT(MD5(seq + ${i}), 30)) FROM seq_1_to_3500;`,
    );
  }
  lines.push(
    'CREATE TABLE sr4_options (option_id int AUTO_INCREMENT PRIMARY KEY, option_name varchar(191) UNIQUE, option_value longtext);',
    `INSERT INTO sr4_options (option_name, option_value) VALUES ('home', '${address}'), ('siteurl', '${address}'), ('blogname', 'Club'), ('rewrite_rules', 'x'), ('active_plugins', 'a:2:{i:0;s:11:"cache/c.php";i:1;s:5:"b.php";}');`,
    `INSERT INTO sr4_options (option_name, option_value) SELECT CONCAT('_transient_', seq), seq FROM seq_1_to_500;`,
    'CREATE TABLE sr4_posts (ID int PRIMARY KEY); CREATE TABLE sr4_users (ID int PRIMARY KEY);',
  );
  database.sql(lines.join('\n'));
}

/** Everything in a database, in an order of its own. */
function contents(database: OwnDatabase, name: string): string {
  const tables = database.sql('SHOW TABLES', name).trim().split('\n');
  return tables
    .map(table => `${table}\n${database.sql(`SELECT * FROM ${table} ORDER BY 1`, name)}`)
    .join('\n');
}

async function disturbedMove(t: TestContext, label: string) {
  const database = started();
  const root = folder(t);
  const old = `${label}_old`;
  fill(database, old);
  mkdirSync(join(root, 'old/wp-includes'), { recursive: true });
  writeFileSync(join(root, 'old/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
  writeFileSync(
    join(root, 'old/wp-config.php'),
    `<?php define('DB_NAME', '${old}'); define('DB_USER', 'root'); define('DB_PASSWORD', ''); define('DB_HOST', '127.0.0.1:${database.port}'); $table_prefix = 'sr4_';\n`,
  );
  for (const name of ['calm', 'rough']) {
    database.sql(`CREATE DATABASE ${label}_${name}`);
    // What was there is kept, too.
    database.sql(
      `CREATE TABLE ${label}_${name}.row_part1 (was int); INSERT INTO ${label}_${name}.row_part1 VALUES (7)`,
    );
    mkdirSync(join(root, name));
    writeFileSync(
      join(root, name, 'move.yaml'),
      `name: club
old: { address: "${address}", files: ../old, database: { from: configuration } }
new:
  address: https://saltmarshrowing.example
  files: ../${name}-site
  database: { server: "mysql://root@127.0.0.1:${database.port}/${label}_${name}", password: "", prefix: row_, replace: own }
configure: { title: Moved, switch-off: ["cache*"] }
`,
    );
  }
  const step = (where: string, name: string, killAt?: number) =>
    run([name, '--yes'], { cwd: join(root, where), killAt });
  const operations: Record<string, number> = {};
  for (const name of ['pack', 'rewrite', 'deliver'])
    operations[name] = await operationsOf(t, [name, '--yes'], { cwd: join(root, 'calm') });
  const wanted = contents(database, `${label}_calm`);
  assert.match(wanted, /Moved/);
  assert.ok(wanted.includes('https://saltmarshrowing.example/000003500') && !wanted.includes(address));
  return { database, step, operations, wanted, now: () => contents(database, `${label}_rough`), old };
}

test(`killed ${times} times while it takes, loads and edits: the same rows, nothing doubled`, {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const { database, step, operations, wanted, now, old } = await disturbedMove(t, 'kills');
  const before = contents(database, old);
  const random = numbers(11);
  let killed = 0;
  const killedIn = async (name: string, most: number) => {
    for (let here = 0; ; here++) {
      // What is resumed has less to do, and may end before that.
      const killAt = here < most ? Math.ceil(operations[name]! * (0.02 + random() * 0.3)) : undefined;
      const ran = await step('rough', name, killAt);
      if (ran.code === null) killed++;
      else if (here >= most) return assert.equal(ran.code, 0, ran.stdout + ran.stderr);
    }
  };
  // Done again and again, so that there are moments enough in the middle.
  for (let round = 0; killed < times; round++) {
    await killedIn('pack', effort(3, 12));
    await killedIn('rewrite', 0);
    await killedIn('deliver', effort(6, 25));
    assert.equal(now(), wanted, `round ${round + 1}`);
    assert.ok(round < 20, `only ${killed} killed`);
  }
  t.diagnostic(`${killed} killed`);
  assert.equal(contents(database, old), before, 'the old database is as it was');
  const undone = await step('rough', 'undo');
  assert.equal(undone.code, 0, undone.stderr);
  assert.equal(now(), 'row_part1\n7\n');
});

test('a server that is killed and comes back while a dump is loaded: the same rows, nothing doubled', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const { database, step, wanted, now } = await disturbedMove(t, 'restart');
  for (const name of ['pack', 'rewrite']) assert.equal((await step('rough', name)).code, 0);
  const running = step('rough', 'deliver');
  let ended = false;
  running.then(() => {
    ended = true;
  });
  await until(
    'the load',
    () => ended || /able_porter_load_row_/.test(database.sql('SHOW TABLES', 'restart_rough')),
  );
  let restarts = 0;
  for (; restarts < 3; restarts++) {
    // So many statements are done for good; the first time it has hardly begun.
    const done = () => {
      try {
        return Number(database.sql('SELECT done FROM able_porter_load_row_', 'restart_rough').trim() || 0);
      } catch (error) {
        // All is loaded, and only to be verified.
        if (/ERROR 1146/.test(String(error))) return Number.POSITIVE_INFINITY;
        throw error;
      }
    };
    const from = restarts === 0 ? 0 : done();
    await until('more of the load', () => ended || restarts === 0 || done() > from);
    if (ended) break;
    await database.end(restarts === 1 ? 'SIGTERM' : 'SIGKILL');
    await database.begin();
  }
  const ran = await running;
  assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  assert.ok(
    restarts > 0 && /connection to the database .*was lost/i.test(ran.stderr),
    `${restarts} ${ran.stderr}`,
  );
  t.diagnostic(`${restarts} restarts`);
  assert.equal(now(), wanted);
});
