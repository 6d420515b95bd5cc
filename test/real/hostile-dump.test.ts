import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { asBytes } from '../../src/core/bytes.js';
import { encodedSql } from '../../src/core/sql/encoded-sql.js';
import { isAllowed, StatementJudge } from '../../src/core/sql/judge/judge.js';
import { openSession } from '../../src/ends/database/server/session/open-session.js';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { hostile, usual } from '../help/statements.js';
import { databaseForTests, type OwnDatabase } from './database.js';

const started = databaseForTests();
const programs = ['mariadbd', 'mariadb-install-db', 'mariadb'];

/** A database of somebody else, with one of everything. */
const neighbour = `CREATE OR REPLACE DATABASE other; USE other; CREATE TABLE t (v int PRIMARY KEY) ENGINE=InnoDB; INSERT INTO t VALUES (1),(2);
CREATE VIEW v AS SELECT * FROM t; CREATE SEQUENCE s; CREATE FUNCTION f(a int) RETURNS int DETERMINISTIC RETURN a;
CREATE PROCEDURE p() DELETE FROM t; CREATE TRIGGER tr BEFORE DELETE ON t FOR EACH ROW SET @n = 1;`;
const site = `CREATE OR REPLACE DATABASE site; USE site; ${['wp_a', 'wp_b', 'wp_c', 'wp_d', 'wp_log', 'a']
  .map(
    name =>
      `CREATE TABLE ${name} (id int PRIMARY KEY AUTO_INCREMENT, a int, b int, x int, y int, n int) ENGINE=InnoDB`,
  )
  .join('; ')};`;

/**
 * Makes the site's database anew. The server cannot remove its folder while it still drops something there itself; a file that is
 * none of its own kinds was written by a statement.
 */
function makeSite(database: OwnDatabase): void {
  for (let tries = 1; ; tries++) {
    try {
      database.sql(site);
      return;
    } catch (error) {
      const left = readdirSync(database.file('site'));
      const isOwn = (name: string) =>
        /^#sql|^FTS_|\.(?:frm|ibd|isl|cfg|par|TRG|TRN|opt|M[AY][ID]|CS[VM])$/.test(name);
      if (tries > 5 || !left.every(isOwn)) assert.fail(`${error}\nleft in its folder: ${left.join(', ')}`);
      execFileSync('sleep', ['1']);
      for (const name of left) rmSync(database.file(join('site', name)), { force: true });
    }
  }
}

/** What is at a server besides the site's database: tables and their content, programs, accounts, settings. */
function serverState(database: OwnDatabase): string {
  const mine = `NOT IN ('site', 'back', 'information_schema', 'performance_schema', 'sys')`;
  return database.sql(`SHOW DATABASES;
SELECT table_schema, table_name, table_type, engine FROM information_schema.TABLES WHERE table_schema ${mine} ORDER BY 1, 2;
SELECT routine_schema, routine_name, routine_definition FROM information_schema.ROUTINES WHERE routine_schema ${mine};
SELECT trigger_schema, trigger_name, action_statement FROM information_schema.TRIGGERS WHERE trigger_schema ${mine};
SELECT event_schema, event_name FROM information_schema.EVENTS WHERE event_schema ${mine};
SELECT constraint_schema, constraint_name FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE referenced_table_name = 't';
CHECKSUM TABLE other.t, mysql.global_priv, mysql.db, mysql.tables_priv, mysql.columns_priv, mysql.procs_priv, mysql.func, mysql.plugin, mysql.servers, mysql.roles_mapping;
SELECT next_not_cached_value FROM other.s;
SELECT variable_name, variable_value FROM information_schema.GLOBAL_VARIABLES WHERE variable_name NOT LIKE 'GTID%' AND variable_name NOT IN ('TIMESTAMP', 'HOSTNAME');
SHOW PLUGINS;`);
}

/** Numbers below some limit, the same for the same seed. */
function randomFrom(seed: number): (below: number) => number {
  let state = seed;
  return below => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    return Math.floor((state / 2 ** 32) * below);
  };
}

const cut = (statement: string) =>
  statement.match(/'(?:[^'\\]|\\.|'')*'|"[^"]*"|`[^`]*`|\/\*M?!?\d*|\*\/|[\w$]+|\s+|[^\w\s]/g) ?? [];
const begins = usual.map(cut);
const pool = [...usual, ...hostile].map(cut);
const noise = [
  ...[
    'other.t',
    '`other`.`t`',
    'other . t',
    'mysql.user',
    'site.wp_a',
    '@@global.max_connections',
    '@x',
    ':=',
    '.',
    ',',
    '(',
    ')',
    ';',
  ],
  ...[
    '/*',
    '*/',
    '/*!50000',
    '/*!99999',
    '/*M!100100',
    '/*+',
    '-- ',
    '--\x01',
    '#',
    '\n',
    "'",
    '"',
    '`',
    '\\',
    "\\'",
    '\0',
    '\xa0',
  ],
  ...[
    'SELECT',
    'FROM',
    'JOIN',
    'INTO',
    'UPDATE',
    'TABLE',
    'USING',
    'UNION',
    'SET',
    'GLOBAL',
    'AS',
    'LIKE',
    'REFERENCES',
    'ON',
  ],
  ...[
    'sleep(0)',
    'load_file(1)',
    'NEXT VALUE FOR other.s',
    'other.f(1)',
    'NEXTVAL(other.s)',
    'IGNORE',
    'VIEW',
    'TRIGGER',
    'other',
  ],
];

/** A statement made of pieces of others, with noise between. */
function madeUp(random: (below: number) => number): string {
  const one = <T>(list: readonly T[]): T => list[random(list.length)]!;
  const tokens = [...one(random(8) === 0 ? pool : begins)];
  for (let edits = 1 + random(3); edits > 0; edits--) {
    const at = random(tokens.length + 1);
    const other = one(pool);
    const from = random(other.length);
    switch (random(6)) {
      case 0:
        tokens.splice(at, random(3), one(noise));
        break;
      case 1:
        tokens.splice(at, random(3), ' ', one(noise), ' ');
        break;
      case 2:
        tokens.splice(at, tokens.length, ...other.slice(from));
        break;
      case 3:
        tokens.splice(at, random(4), ...other.slice(from, from + 1 + random(6)));
        break;
      case 4:
        tokens.splice(at, 1 + random(2));
        break;
      default: {
        const to = at + random(tokens.length - at + 1);
        tokens.splice(to, 0, ' */');
        tokens.splice(at, 0, one(['/*!50000 ', '/*!99999 ', '/*M!100100 ', '/* ', '/*! ']));
      }
    }
  }
  return tokens.join('');
}

test('whatever is allowed, nothing at the server differs afterwards but the site’s own database', {
  timeout: 3_600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  database.sql(neighbour);
  makeSite(database);
  const place = {
    host: '127.0.0.1',
    port: database.port,
    name: 'site',
    user: 'root',
    password: '',
    socket: undefined,
  };
  const seed = Number(process.env.ABLE_PORTER_SEED ?? Date.now() % 2 ** 31);
  t.diagnostic(`seed ${seed}`);
  const random = randomFrom(seed);
  const before = serverState(database);
  const all = effort(20_000, 1_000_000);
  let ran = 0;
  let went = 0;
  for (let done = 0; done < all; ) {
    makeSite(database);
    const session = await openSession({ place, through: undefined });
    const judge = new StatementJudge();
    const batch: string[] = [];
    for (; done < all && batch.length < 300; done++) {
      const statement = asBytes(madeUp(random));
      if (!isAllowed(judge.judge(statement))) continue;
      batch.push(statement);
      // What waits for itself, or for long, says nothing about others.
      const ended = await session.run(encodedSql(statement)).then(
        () => true,
        () => false,
      );
      if (ended) went++;
    }
    ran += batch.length;
    // Its locks would be waited for.
    await session.close();
    const after = serverState(database);
    if (after !== before)
      assert.fail(`one of these changed the server: ${JSON.stringify(batch)}\n${difference(before, after)}`);
  }
  t.diagnostic(`${all} statements were made up, ${ran} allowed, and the server ran ${went} of them`);
  assert.ok(went > all / 200, 'hardly anything was run');
});

function difference(before: string, after: string): string {
  const lines = new Set(before.split('\n'));
  return after
    .split('\n')
    .filter(line => !lines.has(line))
    .join('\n');
}

const dumpHead = `SET NAMES utf8mb4;
CREATE TABLE \`wp_options\` (\`option_id\` int NOT NULL, \`option_name\` varchar(60) NOT NULL, \`option_value\` text NOT NULL, PRIMARY KEY (\`option_id\`)) ENGINE=InnoDB;
INSERT INTO \`wp_options\` VALUES (1,'home','https://old.example');
CREATE TABLE \`wp_posts\` (\`ID\` int NOT NULL, \`post_content\` text NOT NULL, PRIMARY KEY (\`ID\`)) ENGINE=InnoDB;
INSERT INTO \`wp_posts\` VALUES (1,'https://old.example/tide');
CREATE TABLE \`wp_users\` (\`ID\` int NOT NULL, PRIMARY KEY (\`ID\`)) ENGINE=InnoDB;
`;

test('a dump that would do more is delivered as what it should be, by the account that may do everything, and reported', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  database.sql(neighbour);
  makeSite(database);
  database.sql(
    `CREATE OR REPLACE DATABASE site; USE site; CREATE TABLE mine (v int); INSERT INTO mine VALUES (1); CREATE TABLE row_mine (v int);`,
  );
  const root = folder(t);
  const statements = hostile.filter(
    one =>
      /^(?:create|drop|alter|set|update|delete|truncate|grant|revoke|call|use|flush|rename|analyze|lock|insert|load|kill|do|prepare|execute|install|reset|purge|select|check|repair|optimize|handler|xa|uninstall)\b/i.test(
        one,
      ) && !/\bvalues\s*\(|'[^']*$|;/i.test(one),
  );
  // Names of the same database that are not the dump's.
  const own = [
    'DROP TABLE mine',
    'DELETE FROM mine',
    'DROP TABLE wp_mine',
    'ALTER TABLE mine ADD COLUMN x int',
    'CREATE VIEW v AS SELECT * FROM mine',
  ];
  writeFileSync(
    join(root, 'old.sql'),
    `${dumpHead}${[...statements, ...own].map(one => `${one};\n`).join('')}`,
  );
  mkdirSync(join(root, 'old'));
  writeFileSync(join(root, 'old/wp-load.php'), '<?php\n');
  mkdirSync(join(root, 'old/wp-includes'));
  writeFileSync(join(root, 'old/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
  writeFileSync(
    join(root, 'old/wp-config.php'),
    "<?php define('DB_NAME', 'o'); define('DB_USER', 'o'); define('DB_PASSWORD', 'o'); define('DB_HOST', 'localhost'); $table_prefix = 'wp_';\n",
  );
  writeFileSync(
    join(root, 'move.yaml'),
    `name: club
old: { address: https://old.example, files: old, database: { dump: old.sql } }
new:
  address: https://new.example
  files: new
  database: { server: "mysql://root@127.0.0.1:${database.port}/site", password: "", prefix: row_ }
`,
  );
  const before = serverState(database);
  const step = async (...args: string[]) => {
    const done = await run([...args, '--json'], { cwd: root });
    assert.equal(done.code, 0, `${args}: ${done.stderr}`);
    return JSON.parse(done.stdout);
  };
  const { findings } = await step('pack');
  await step('rewrite');
  const [left] = findings.filter(({ code }: { code: string }) => code === 'statements-left-out');
  assert.equal(left?.level, 'warn');
  assert.match(left.what, new RegExp(`^${statements.length} statements? of the dump were left out`));
  const line =
    readFileSync(join(root, 'old.sql'), 'utf8')
      .split('\n')
      .findIndex(one => one.startsWith('SET ROLE')) + 1;
  assert.match(left.what, new RegExp(`line ${line}: SET ROLE ALL \\(it sets "role"\\)`));
  await step('deliver', '--yes');
  assert.equal(serverState(database), before);
  assert.equal(database.sql('SELECT * FROM mine', 'site'), '1\n');
  const tables = database.sql('SHOW TABLES', 'site').trim().split('\n');
  assert.deepEqual(tables, ['mine', 'row_mine', 'row_options', 'row_posts', 'row_users']);
  assert.equal(database.sql('SELECT post_content FROM row_posts', 'site'), 'https://new.example/tide\n');
});

test('loading what the tool takes of a database with hostile names makes that database again, and does nothing else', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  mkdirSync(join(root, 'client'));
  const names = [
    'a\nsystem touch harmed1',
    'b\n\\! touch harmed2',
    "c'; DROP DATABASE other; --",
    'd*/ DROP DATABASE other; /*',
    'e` (i int); DROP DATABASE other; --',
    'f\ndelimiter x\nf',
    'g"\\',
    'h;\nsource /etc/passwd',
    '-- i',
    '#j\nj',
  ];
  const quoted = (name: string) => `\`${name.replaceAll('`', '``')}\``;
  const text = (name: string) => `'${name.replaceAll('\\', '\\\\').replaceAll("'", "''")}'`;
  const bad = 'k\nsystem touch harmed3';
  database.sql(
    `${neighbour} DROP DATABASE IF EXISTS ${quoted(bad)}; CREATE DATABASE ${quoted(bad)} CHARACTER SET utf8mb4; CREATE OR REPLACE DATABASE back CHARACTER SET utf8mb4`,
  );
  for (const name of names) {
    const of = quoted(name);
    database.sql(
      `CREATE TABLE ${of} (${of} int PRIMARY KEY COMMENT ${text(name)}, v text DEFAULT ${text(name)}, e enum(${text(name)}), KEY ${quoted(`k${name}`)} (v(5))) ENGINE=InnoDB COMMENT ${text(name)};
INSERT INTO ${of} VALUES (1, ${text(name)}, ${text(name)}); CREATE VIEW ${quoted(`v${name}`)} AS SELECT ${of} FROM ${of};
CREATE TRIGGER ${quoted(`t${name}`)} BEFORE UPDATE ON ${of} FOR EACH ROW SET NEW.v = ${text(name)};`,
      bad,
    );
  }
  writeFileSync(
    join(root, 'move.yaml'),
    `name: club
old: { address: https://old.example, database: { server: "mysql://root@127.0.0.1:${database.port}/${encodeURIComponent(bad)}", password: "" } }
new: { address: https://new.example, database: { dump: finished.sql } }
`,
  );
  const before = serverState(database);
  for (const command of [['pack'], ['rewrite'], ['deliver', '--yes']]) {
    const done = await run(command, { cwd: root });
    assert.equal(done.code, 0, `${command}: ${done.stderr}`);
  }
  // The client runs the lines that it takes for commands of its own.
  const load = (dump: Buffer) =>
    execFileSync('mariadb', ['--no-defaults', `--socket=${database.socket}`, '-uroot', 'back'], {
      cwd: join(root, 'client'),
      input: dump,
      stdio: ['pipe', 'pipe', 'pipe'],
    });
  const finished = readFileSync(join(root, 'finished.sql'));
  load(finished);
  load(finished);
  assert.deepEqual(readdirSync(join(root, 'client')), []);
  assert.ok(!existsSync('/tmp/able-porter-hostile'));
  assert.equal(serverState(database), before);
  for (const name of names) {
    const rows = (where: string) => database.sql(`SELECT * FROM ${quoted(name)}`, where);
    assert.equal(rows('back'), rows(bad));
    assert.equal(database.sql(`SELECT * FROM ${quoted(`v${name}`)}`, 'back'), '1\n');
    database.sql(`UPDATE ${quoted(name)} SET e = NULL`, 'back');
    assert.equal(database.sql(`SELECT v FROM ${quoted(name)}`, 'back'), rows(bad).split('\t')[1] + '\n');
  }
});
