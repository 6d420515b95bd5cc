import assert from 'node:assert/strict';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync } from 'node:zlib';
import { parseAddress } from '../../src/core/address/address.js';
import { WebSite } from '../../src/ends/http/web-site.js';
import { watchCommandLines } from '../help/command-lines.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, here, installCms, logIn, makeDatabases, passwords, serve } from './cms.js';
import { comparable, databaseForTests, freePort, OwnDatabase } from './database.js';
import { ownSsh } from './ssh.js';

const started = databaseForTests();
const oldAddress = 'https://club.saltmarsh.example/site';
const newAddress = 'https://saltmarshrowing.example';
const programs = ['mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump'];

/** Every file of the move folder but the secrets, as text, to look for what must not be in it. */
function written(move: string): string {
  return readdirSync(move, { recursive: true })
    .map(String)
    .filter(name => name !== '.env' && !name.endsWith('.gz') && statSync(join(move, name)).isFile())
    .map(name => readFileSync(join(move, name), 'latin1'))
    .join('\n');
}

test('every type of column comes through a live move, compared with the dumps of the server’s own program', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  database.sql(
    `CREATE DATABASE types CHARACTER SET utf8mb4; CREATE USER 'p'@'localhost' IDENTIFIED BY 'p q'; GRANT ALL ON types.* TO 'p'@'localhost'; USE types; SET sql_mode='';\n${readFileSync(here('types.sql'), 'utf8')}`,
  );
  // Only who made a routine sees how it is made.
  database.sql("UPDATE mysql.proc SET definer='p@localhost' WHERE db='types'; FLUSH PRIVILEGES");
  database.sql(
    "CREATE DATABASE types_new; GRANT ALL ON types_new.* TO 'p'@'localhost'; CREATE TABLE types_new.t_all (mine int); INSERT INTO types_new.t_all VALUES (7); CREATE TABLE types_new.other (y int)",
  );
  const before = comparable(database.dump('types_new'));
  const sheet = `name: types
old: { address: https://old.example, database: { server: "mysql://p@127.0.0.1:${database.port}/types", password: p q } }
new: { address: https://new.example, database: { server: "mysql://p@127.0.0.1:${database.port}/types_new", password: p q } }
take: { database: { routines: true, events: true } }
`;
  writeFileSync(join(root, 'move.yaml'), sheet);
  const went = await run(['go', '--yes', '--json'], { cwd: root });
  assert.equal(went.code, 0, went.stdout + went.stderr);
  const options = ['--hex-blob', '--skip-comments', '--routines', '--events', '--order-by-primary'];
  const [old, next] = ['types', 'types_new'].map(name =>
    comparable(
      database.dump(
        name,
        ...options,
        `--ignore-table=${name}.other`,
        `--ignore-table=${name}.able_porter_old1_t_all`,
      ),
    ),
  );
  assert.equal(next, old);
  // A float needs more digits than that program writes.
  const floats = (name: string) => database.sql(`SELECT id, fl*1e0, db, HEX(ge), secret FROM ${name}.t_all`);
  assert.equal(floats('types_new'), floats('types'));
  const outcomes = JSON.parse(went.stdout).outcomes as {
    step: string;
    result: never;
    findings: { code: string }[];
  }[];
  const { database: loaded } = outcomes.find(({ step }) => step === 'deliver')!.result as {
    database: { tables: { table: string; equal: boolean; compared: boolean; rows: number }[] };
  };
  assert.deepEqual(
    loaded.tables.map(({ table, equal, compared, rows }) => [table, equal, compared, rows]),
    [
      ['a_child', true, true, 2],
      ['a_log', true, true, 0],
      ['lone', true, true, 3],
      ['parted', true, true, 2],
      ['t_all', true, true, 5],
      ['t_steady_not', true, true, 2],
      ['zero', true, true, 2],
    ],
  );
  const codes = (step: string) => outcomes.find(one => one.step === step)!.findings.map(({ code }) => code);
  assert.ok(codes('pack').includes('tables-without-transactions'));

  // Changed at the new end, it is reported and is no damage; a table that is gone is.
  database.sql('UPDATE types_new.zero SET v = 9; DROP TRIGGER types_new.tr');
  const changed = await run(['check', '--json'], { cwd: root });
  assert.equal(changed.code, 1);
  const told = (JSON.parse(changed.stdout).findings as { code: string }[]).map(({ code }) => code);
  assert.ok(told.includes('table-changed-since') && told.includes('program-missing'), told.join());
  database.sql('DROP TABLE types_new.lone');
  const gone = JSON.parse((await run(['check', '--json'], { cwd: root })).stdout);
  assert.ok(gone.findings.some(({ code }: { code: string }) => code === 'table-missing'));

  const undone = await run(['undo', '--yes', '--json'], { cwd: root });
  assert.equal(undone.code, 0, undone.stderr);
  // What was written at the new end is kept; besides it all is as it was.
  const tables = database.sql('SHOW TABLES', 'types_new').trim().split('\n');
  const kept = tables.filter(name => name.startsWith('able_porter_'));
  assert.ok(
    kept.includes('able_porter_old2_zero') && kept.every(name => name.startsWith('able_porter_old2_')),
  );
  assert.match(JSON.parse(undone.stdout).result.kept.join(), /able_porter_old2_/);
  const others = kept.map(name => `--ignore-table=types_new.${name}`);
  assert.equal(comparable(database.dump('types_new', ...others)), before);
});

test('a whole move of the CMS over SFTP, both databases through SSH, ends with the CMS answering from the new one', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, '/usr/sbin/sshd', 'ssh-keygen')) return;
  const database = started();
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  const commandLines = watchCommandLines(t);
  makeDatabases(database);
  installCms(database, at('old/site'), oldAddress);
  const extensions = ['creek-cache/creek-cache.php', 'gallery/gallery.php'];
  const list = `a:2:{${extensions.map((name, i) => `i:${i};s:${name.length}:"${name}";`).join('')}}`;
  database.sql(
    `UPDATE sr4_options SET option_value = '${list}' WHERE option_name = 'active_plugins'`,
    'old_club',
  );
  // Another site lives in the same database, under a prefix that begins with the same letters.
  for (const name of ['options', 'posts', 'users'])
    database.sql(`CREATE TABLE sr4_two_${name} AS SELECT * FROM sr4_${name}`, 'old_club');
  const ssh = await ownSsh(t, root, false);
  mkdirSync(at('new'));
  mkdirSync(at('move'));
  const login = `{ key: ${ssh.key}, host-key: "${ssh.fingerprint}" }`;
  const admin = `ne"ap 'n\\ spring &`;
  const oldPort = await freePort();
  await serve(t, at('old'), '/site', oldPort);
  const newPort = await freePort();
  writeFileSync(at('move/.env'), `NEW=\`${passwords.new}\`\nADMIN=\`${admin}\`\n`, { mode: 0o600 });
  const sheet = `name: club
old:
  address: ${oldAddress}
  reach: http://127.0.0.1:${oldPort}
  files: sftp://${ssh.user}@127.0.0.1:${ssh.port}${at('old/site')}
  login: ${login}
  database: { from: configuration }
new:
  address: ${newAddress}
  reach: http://127.0.0.1:${newPort}
  files: sftp://${ssh.user}@127.0.0.1:${ssh.port}${at('new/htdocs')}
  login: ${login}
  database:
    server: mysql://new@127.0.0.1:${database.port}/new_club
    password: \${NEW}
    through: files
    prefix: row_
take: { database: { tables: { without-rows: ["sr4_two_*"] } } }
configure:
  title: Saltmarsh Rowing
  tagline: "It's “low” water"
  search-engines: hide
  switch-off: ["*cache*"]
  administrator: { login: tamsin, mail: tamsin@saltmarshrowing.example, password: "\${ADMIN}" }
`;
  writeFileSync(at('move/move.yaml'), sheet);
  const said: string[] = [];
  const step = async (...args: string[]) => {
    const ran = await run([...args, '--json'], { cwd: at('move') });
    said.push(ran.stdout, ran.stderr);
    assert.equal(
      ran.code,
      0,
      `${args.join(' ')}: ${JSON.stringify(JSON.parse(ran.stdout || '{}').findings ?? ran.stdout)}${ran.stderr}`,
    );
    return JSON.parse(ran.stdout);
  };
  const survey = await step('survey');
  const [used] = survey.result.old.listed.filter((one: { used: boolean }) => one.used);
  assert.equal(used.name, 'old_club');
  assert.deepEqual(used.sites.map((one: { prefix: string }) => one.prefix).sort(), ['sr4_', 'sr4_two_']);
  await step('pack');
  await step('rewrite');
  const { result } = await step('deliver', '--yes');
  assert.ok(
    result.database.tables.every((one: { equal: boolean; compared: boolean }) => one.equal && one.compared),
  );
  const option = (name: string) =>
    database.sql(`SELECT option_value FROM row_options WHERE option_name = '${name}'`, 'new_club').trimEnd();
  assert.deepEqual(['home', 'siteurl', 'blogname', 'blogdescription', 'blog_public'].map(option), [
    newAddress,
    newAddress,
    'Saltmarsh Rowing',
    "It's “low” water",
    '0',
  ]);
  assert.equal(option('active_plugins'), 'a:1:{i:0;s:19:"gallery/gallery.php";}');
  assert.equal(option('_transient_creek_feed'), '');
  assert.equal(
    database.sql("SELECT COUNT(*) FROM row_usermeta WHERE meta_key = 'session_tokens'", 'new_club'),
    '0\n',
  );

  await serve(t, at('new/htdocs'), '', newPort);
  const next = new WebSite(parseAddress(newAddress), parseAddress(`http://127.0.0.1:${newPort}`));
  for (const path of ['/', '/curlew/', '/safety/', '/wp-login.php']) {
    const { status, html } = await next.get(path, AbortSignal.timeout(60_000));
    assert.equal(status, 200, path);
    assert.ok(!html.replaceAll('secretary@club.saltmarsh.example', '').includes('club.saltmarsh'), path);
  }
  const checked = await step('check');
  assert.ok(checked.result.tables.every((one: { equal: boolean }) => one.equal));
  assert.deepEqual(
    checked.findings.filter(({ level }: { level: string }) => level === 'stop'),
    [],
  );
  // The login page takes the new password, which the CMS hashes as its form slashes it.
  assert.equal(await logIn(newPort, 'saltmarshrowing.example', 'tamsin', admin), `${newAddress}/wp-admin/`);
  assert.match(await logIn(newPort, 'saltmarshrowing.example', 'tamsin', 'oar-and-rowlock'), /incorrect/);

  await step('report');
  const tidied = await step('tidy', '--yes');
  assert.ok(
    tidied.result.remember.some((line: string) => line.includes('creek-cache/creek-cache.php')),
    tidied.result.remember.join('\n'),
  );
  // No password in anything that was said or written.
  const listed = commandLines();
  assert.match(listed, /deliver\0--yes\0--json/);
  const all = said.join('\n') + written(at('move')) + listed;
  for (const secret of [...Object.values(passwords), admin])
    for (const form of [secret, JSON.stringify(secret).slice(1, -1), encodeURIComponent(secret)])
      assert.ok(!all.includes(form), `a password was shown as ${form}`);
  assert.ok(!existsSync(at('move/crate')));
});

test('a dump cut for a panel loads piece by piece, and what the panel exports is compared whatever way it is written', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  database.sql(
    `CREATE DATABASE panel_old CHARACTER SET utf8mb4; USE panel_old; SET sql_mode='';\n${readFileSync(here('types.sql'), 'utf8')}\nCREATE TABLE wide (id int PRIMARY KEY, v longtext); INSERT INTO wide SELECT seq, CONCAT('https://old.example/', SHA2(seq, 512), SHA2(seq + 1, 512), SHA2(-seq, 512)) FROM seq_1_to_3000; CREATE TABLE keyless (v longtext); INSERT INTO keyless SELECT v FROM wide;`,
  );
  writeFileSync(join(root, 'old.sql'), database.dump('panel_old', '--routines'));
  const sheet = `name: panel
old: { address: https://old.example, database: { dump: old.sql } }
new: { address: https://new.example, database: { dump: new/finished.sql.gz, parts: 100 kB } }
`;
  writeFileSync(join(root, 'move.yaml'), sheet);
  mkdirSync(join(root, 'new'));
  const went = await run(['go', '--yes'], { cwd: root });
  assert.equal(went.code, 0, went.stdout + went.stderr);
  const parts = readdirSync(join(root, 'new/finished.parts')).filter(name => name.endsWith('.gz'));
  assert.ok(parts.length > 4, parts.join());
  assert.deepEqual(parts, parts.toSorted());
  database.sql('CREATE DATABASE panel_new; CREATE DATABASE panel_whole');
  for (const name of parts) {
    const packed = readFileSync(join(root, 'new/finished.parts', name));
    assert.ok(packed.length <= 100_000, `${name} has ${packed.length} bytes`);
    database.sql(gunzipSync(packed), 'panel_new');
  }
  database.sql(gunzipSync(readFileSync(join(root, 'new/finished.sql.gz'))), 'panel_whole');
  const [inParts, whole] = ['panel_new', 'panel_whole'].map(name =>
    comparable(database.dump(name, '--routines', '--hex-blob', '--skip-comments')),
  );
  assert.equal(inParts, whole);
  const page = readFileSync(join(root, 'new/finished.parts/READ-ME-FIRST.txt'), 'utf8');
  assert.match(page, /finished\.001\.sql\.gz/);

  // The client breaks off in the middle of each piece, and goes on where the page says.
  const plain = parts.map(name => gunzipSync(readFileSync(join(root, 'new/finished.parts', name))));
  let fromEarlier = 0;
  for (const [broken, name] of parts.entries()) {
    database.sql('DROP DATABASE IF EXISTS panel_again; CREATE DATABASE panel_again');
    for (const piece of plain.slice(0, broken)) database.sql(piece, 'panel_again');
    const whole = plain[broken] ?? Buffer.alloc(0);
    // Up to the end of a statement in its middle: what a panel has run when its time is over.
    const half = whole.subarray(
      0,
      whole.lastIndexOf(';\n', Math.max(whole.length / 2, whole.indexOf(';\n'))) + 2,
    );
    database.sql(half, 'panel_again');
    const line = page.split('\n').find(text => text.includes(name)) ?? assert.fail(name);
    const earlier = /begin with (finished\.\d+\.sql\.gz)/.exec(line)?.[1];
    if (earlier !== undefined) fromEarlier++;
    for (const piece of plain.slice(parts.indexOf(earlier ?? name))) database.sql(piece, 'panel_again');
    const again = comparable(database.dump('panel_again', '--routines', '--hex-blob', '--skip-comments'));
    assert.equal(again, inParts, `${name} was loaded again`);
  }
  assert.ok(fromEarlier > 0, 'a table without a key fills several pieces');

  for (const options of [
    [],
    ['--hex-blob', '--skip-extended-insert'],
    ['--complete-insert', '--skip-opt'],
    ['--compatible=ansi'],
  ]) {
    writeFileSync(join(root, 'export.sql'), database.dump('panel_new', ...options));
    const checked = await run(['check', '--export', 'export.sql', '--json'], { cwd: root });
    const { result } = JSON.parse(checked.stdout);
    assert.deepEqual(
      result.tables.filter((one: { equal: boolean }) => !one.equal),
      [],
      options.join(' '),
    );
    assert.equal(result.tables.length, 9);
  }
  database.sql(
    "UPDATE wide SET v = CONCAT(v, ' ') WHERE id = 77; DELETE FROM zero WHERE id = 7; UPDATE wide SET v = 'https://old.example/left' WHERE id = 78",
    'panel_new',
  );
  writeFileSync(join(root, 'export.sql'), database.dump('panel_new'));
  const changed = await run(['check', '--export', 'export.sql', '--json'], { cwd: root });
  assert.equal(changed.code, 1);
  const different = JSON.parse(changed.stdout).result.tables.filter((one: { equal: boolean }) => !one.equal);
  assert.deepEqual(different.map((one: { table: string }) => one.table).sort(), ['wide', 'zero']);
  // Old addresses are looked for in what the panel exported, and not in the crate.
  const { findings, result } = JSON.parse(changed.stdout);
  const left = findings.filter(({ code }: { code: string }) => code === 'address-left-over');
  assert.match(left.map(({ place }: { place: string }) => place).join(), /wide\.v/);
  assert.equal(result.leftOver.length, 1);
});

test('room is made with an administrator’s credentials; without them the statements are printed, and nothing is changed', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  database.sql(
    "CREATE DATABASE room_old; CREATE TABLE room_old.wp_a (id int PRIMARY KEY, v text); INSERT INTO room_old.wp_a VALUES (1, 'https://old.example/x'); CREATE USER 'boss'@'localhost' IDENTIFIED BY 'b o$s'; GRANT ALL ON *.* TO 'boss'@'localhost' WITH GRANT OPTION",
  );
  const at = `127.0.0.1:${database.port}`;
  const sheet = (what: string) => `name: room
old: { address: https://old.example, database: { server: "mysql://boss@${at}/room_old", password: "b o$s" } }
new: { address: https://new.example, database: { server: "mysql://club%20user@${at}/room_new", ${what} } }
`;
  const step = async (name: string, what: string) => {
    writeFileSync(join(root, 'move.yaml'), sheet(what));
    return run([name, '--yes', '--json'], { cwd: root });
  };
  const there = () =>
    database.sql("SHOW DATABASES LIKE 'room%'") + database.sql('SELECT User FROM mysql.user ORDER BY 1');
  const before = there();
  for (const name of ['pack', 'rewrite']) assert.equal((await step(name, 'password: "x y"')).code, 0);
  const told = await step('deliver', 'password: "x y"');
  assert.equal(told.code, 3, told.stderr);
  assert.match(told.stderr, /GRANT ALL PRIVILEGES ON `room\\_new`\.\* TO 'club user'/);
  const seen = JSON.parse((await step('survey', 'password: "x y"')).stdout);
  assert.ok(seen.findings.some(({ code }: { code: string }) => code === 'database-credentials'));
  assert.equal(there(), before, 'nothing was changed');
  // A host that puts its own prefix before every name.
  database.sql(
    "CREATE DATABASE host7_room_new; CREATE USER 'club user'@'localhost' IDENTIFIED BY 'x y'; GRANT ALL ON host7_room_new.* TO 'club user'@'localhost'",
  );
  const prefixed = await step('deliver', 'password: "x y"');
  assert.match(prefixed.stderr, /sees host7_room_new/);
  database.sql("DROP DATABASE host7_room_new; DROP USER 'club user'@'localhost'");

  database.sql("SET GLOBAL log_output = 'TABLE'; SET GLOBAL general_log = ON");
  const made = await step('deliver', 'administrator: { user: boss, password: "b o$s" }');
  database.sql('SET GLOBAL general_log = OFF');
  assert.equal(made.code, 0, made.stdout + made.stderr);
  assert.equal(JSON.parse(made.stdout).result.database.made.length, 3);
  assert.match(database.sql('SELECT v FROM wp_a', 'room_new'), /new\.example/);
  const env = readFileSync(join(root, '.env'), 'utf8');
  assert.equal(statSync(join(root, '.env')).mode & 0o777, 0o600);
  const password = /NEW_DB_PASSWORD=.(.+).$/m.exec(env)![1]!;
  assert.ok(password.length >= 24);
  assert.ok(!(made.stdout + made.stderr + written(root)).includes(password));
  const asked = database.sql("SELECT argument FROM mysql.general_log WHERE user_host LIKE 'boss%'");
  assert.match(asked, /CREATE USER/);
  assert.ok(!asked.includes(password), 'the server is not told the password in the clear');
  // What was made continues to be used.
  const again = await step('check', 'administrator: { user: boss, password: "b o$s" }');
  assert.equal(again.code, 0, again.stdout + again.stderr);
});

test('what is wrong with a database is reported with its place and remedy, and changes nothing', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  const root = folder(t);
  database.sql(
    `CREATE DATABASE wrong_old; USE wrong_old; CREATE TABLE wp_options (option_id int PRIMARY KEY, option_name varchar(50), option_value text); INSERT INTO wp_options VALUES (1, 'home', 'https://old.example'); CREATE TABLE wp_posts (ID int PRIMARY KEY, t text CHARACTER SET utf8mb4); INSERT INTO wp_posts VALUES (1, 'tide'); CREATE TABLE wp_users (ID int PRIMARY KEY);
     CREATE DATABASE wrong_new; USE wrong_new; CREATE TABLE wp_options LIKE wrong_old.wp_options; INSERT INTO wp_options VALUES (1, 'home', 'https://heron.example'); CREATE TABLE wp_posts (ID int); CREATE TABLE wp_users (ID int);
     CREATE USER 'reader'@'localhost' IDENTIFIED BY 'ebb'; GRANT SELECT ON wrong_old.* TO 'reader'@'localhost'; GRANT SELECT, INSERT, CREATE, DROP ON wrong_new.* TO 'reader'@'localhost';
     CREATE USER 'w'@'localhost' IDENTIFIED BY 'flow'; GRANT ALL ON wrong_new.* TO 'w'@'localhost'; GRANT ALL ON wrong_old.* TO 'w'@'localhost'`,
  );
  mkdirSync(join(root, 'site/wp-includes'), { recursive: true });
  writeFileSync(join(root, 'site/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
  const at = `127.0.0.1:${database.port}`;
  const prefixed = (prefix: string) =>
    writeFileSync(
      join(root, 'site/wp-config.php'),
      `<?php define('DB_NAME', 'wrong_old'); define('DB_USER', 'reader'); define('DB_PASSWORD', 'ebb'); define('DB_HOST', '${at}'); $table_prefix = '${prefix}';\n`,
    );
  prefixed('wp_');
  const right = { old: 'from: configuration', next: `server: "mysql://w@${at}/wrong_new", password: flow` };
  const step = async (name: string, change: Partial<typeof right> = {}) => {
    const { old, next } = { ...right, ...change };
    writeFileSync(
      join(root, 'move.yaml'),
      `name: wrong\nold: { address: https://old.example, files: site, database: { ${old} } }\nnew: { address: https://new.example, files: new-site, database: { ${next} } }\n`,
    );
    return run([name, '--yes', '--json'], { cwd: root });
  };
  const codes = async (change: Partial<typeof right>) => {
    const ran = await step('survey', change);
    assert.ok(ran.code !== null && ran.code < 2, `${JSON.stringify(change)}: ${ran.stderr}`);
    const { findings } = JSON.parse(ran.stdout) as { findings: { level: string; code: string }[] };
    return findings.map(({ level, code }) => `${level} ${code}`);
  };
  const both = () => ['wrong_old', 'wrong_new'].map(name => comparable(database.dump(name))).join();
  const before = both();
  const server = (rest: string) => `server: "mysql://${rest}"`;
  for (const [change, code] of [
    [{ old: `${server(`reader@${at}/wrong_old`)}, password: no` }, 'stop database-credentials'],
    [{ old: `${server('reader@127.0.0.1:9/wrong_old')}, password: ebb` }, 'stop database-not-reached'],
    [{ old: `${server(`reader@${at}/nowhere`)}, password: ebb` }, 'stop database-missing'],
    [{ next: `${server(`w@${at}/wrong_new`)}, password: no` }, 'stop database-credentials'],
    [{ next: `${server(`w@${at}/nowhere`)}, password: flow` }, 'stop database-missing'],
    [{ next: `${server(`reader@${at}/wrong_new`)}, password: ebb` }, 'stop database-rights-missing'],
    [{}, 'warn database-tables-there'],
    // What would stop the delivery, or prevent the swap, is seen before it.
    [{}, 'stop database-holds-other-site'],
    [{ next: `${server('w@127.0.0.1:9/wrong_new')}, password: flow` }, 'stop database-not-reached'],
    [{ next: server(`w@${at}/wrong_new`) }, 'stop database-not-asked'],
    [{ next: `${right.next}, swap: false` }, 'warn tables-not-swapped'],
  ] as const)
    assert.ok((await codes(change)).includes(code), `${code}: ${await codes(change)}`);
  database.sql('CREATE TABLE wp_extensions (id int); CREATE TABLE wp_usergroups (id int)', 'wrong_old');
  assert.ok((await codes({})).includes('stop prefix-shared'));
  database.sql('DROP TABLE wp_extensions, wp_usergroups', 'wrong_old');
  prefixed('other_');
  assert.ok((await codes({})).includes('stop prefix-differs'));
  prefixed('wp_');
  database.sql(
    'ALTER TABLE wp_posts ADD PRIMARY KEY (ID); CREATE TABLE shop (ID int, FOREIGN KEY (ID) REFERENCES wp_posts (ID))',
    'wrong_new',
  );
  assert.ok((await codes({})).includes('warn tables-not-swapped'), 'a stranger’s foreign key');
  database.sql('DROP TABLE shop; ALTER TABLE wp_posts DROP PRIMARY KEY, MODIFY ID int', 'wrong_new');

  for (const [change, says] of [
    [{ old: `${server(`reader@${at}/wrong_old`)}, password: no` }, /Access denied/],
    [{ old: `${server('reader@127.0.0.1:9/wrong_old')}, password: ebb` }, /ECONNREFUSED/],
  ] as const) {
    const ran = await step('pack', change);
    assert.equal(ran.code, 3);
    assert.match(ran.stderr, says);
    assert.ok(ran.stderr.trim().split('\n').length <= 3, ran.stderr);
  }
  for (const name of ['pack', 'rewrite']) assert.equal((await step(name)).code, 0);
  const other = await step('deliver');
  assert.equal(other.code, 1, other.stderr);
  const [finding] = JSON.parse(other.stdout).findings;
  assert.equal(finding.code, 'database-holds-other-site');
  assert.match(finding.what, /https:\/\/heron\.example/);
  assert.ok(!existsSync(join(root, 'new-site')), 'no file was put in place');
  database.sql('CREATE TABLE wp_blogs (blog_id int)', 'wrong_new');
  const network = await step('deliver', { next: `${right.next}, replace: own` });
  assert.equal(JSON.parse(network.stdout).findings[0].code, 'network-at-new-end');
  database.sql('DROP TABLE wp_blogs', 'wrong_new');
  const rights = await step('deliver', { next: `${server(`reader@${at}/wrong_new`)}, password: ebb` });
  assert.equal(rights.code, 3);
  assert.match(rights.stderr, /may not change rows.*\n.*GRANT ALL/s);
  assert.equal(both(), before, 'both databases are as they were');

  // A statement that fails ends the load there: nothing after it is done, and a second run fails at the same one.
  const many = Array.from(
    { length: 40 },
    (_, i) => `INSERT INTO \`wp_t\` VALUES (${i === 20 ? 3 : i}, 'tide');\n`,
  );
  const core = ['options', 'posts', 'users']
    .map(
      name =>
        `CREATE TABLE \`wp_${name}\` (\`option_id\` int, \`option_name\` varchar(64), \`option_value\` text);\n`,
    )
    .join('');
  const clash = `${core}CREATE TABLE \`wp_t\` (\`id\` int PRIMARY KEY, \`v\` text);\n${many.join('')}CREATE TABLE \`wp_after\` (\`id\` int);\n`;
  writeFileSync(join(root, 'clash.sql'), clash);
  const clashing = { old: 'dump: clash.sql', next: `${right.next}, prefix: d_` };
  for (const name of ['pack', 'rewrite']) assert.equal((await step(name, clashing)).code, 0);
  for (const time of ['first', 'second']) {
    const ran = await step('deliver', clashing);
    assert.equal(ran.code, 3, `${time}: ${ran.stderr}`);
    assert.match(ran.stderr, /Duplicate entry '3'.*d_t/);
    const tables = database.sql('SHOW TABLES', 'wrong_new');
    assert.ok(!/d_after/.test(tables) && !/^d_/m.test(tables), `${time}: ${tables}`);
    assert.equal(
      database.sql('SELECT COUNT(*) FROM able_porter_new_d_t WHERE id > 20', 'wrong_new'),
      '0\n',
      time,
    );
  }

  // What a column cannot hold is not stored in silence.
  const dump = `${core}SET NAMES utf8mb4;\nCREATE TABLE \`wp_narrow\` (\`id\` int, \`v\` varchar(5));\nINSERT INTO \`wp_narrow\` VALUES (1,'long tide');\n`;
  writeFileSync(join(root, 'narrow.sql'), dump);
  const narrow = { old: 'dump: narrow.sql', next: `${right.next}, prefix: n_` };
  for (const name of ['pack', 'rewrite']) assert.equal((await step(name, narrow)).code, 0);
  const cut = await step('deliver', narrow);
  assert.equal(cut.code, 1, cut.stderr);
  assert.deepEqual(
    JSON.parse(cut.stdout)
      .findings.map(({ code }: { code: string }) => code)
      .sort(),
    ['table-different', 'value-not-stored-whole'],
  );
  assert.ok(!existsSync(join(root, 'new-site')));
});

test('a crashed table and a full disk of the server are reported as such', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  // A server whose tables share one file that may not grow beyond some megabytes.
  const full = await OwnDatabase.start(
    '--innodb-file-per-table=0',
    '--innodb-data-file-path=ibdata1:12M:autoextend:max:18M',
  );
  t.after(() => full.close());
  const database = started();
  const root = folder(t);
  database.sql(
    `CREATE DATABASE large CHARACTER SET utf8mb4; USE large; CREATE TABLE wide (id int PRIMARY KEY, v longtext); INSERT INTO wide SELECT seq, REPEAT(SHA2(seq, 512), 60) FROM seq_1_to_6000;
     CREATE TABLE broken (id int PRIMARY KEY, v varchar(200)) ENGINE=MyISAM; INSERT INTO broken SELECT seq, SHA2(seq, 512) FROM seq_1_to_500; FLUSH TABLES`,
  );
  full.sql('CREATE DATABASE small CHARACTER SET utf8mb4');
  const sheet = `name: full
old: { address: https://old.example, database: { server: "mysql://root@127.0.0.1:${database.port}/large" } }
new: { address: https://new.example, database: { server: "mysql://root@127.0.0.1:${full.port}/small", password: "" } }
`;
  writeFileSync(join(root, 'move.yaml'), sheet);
  const index = database.file('large/broken.MYI');
  const whole = readFileSync(index);
  writeFileSync(index, whole.subarray(0, 100));
  database.sql('FLUSH TABLES');
  const seen = JSON.parse((await run(['survey', '--json'], { cwd: root })).stdout);
  const crashed = seen.findings.find(({ code }: { code: string }) => code === 'table-crashed');
  assert.match(crashed?.place ?? '', /broken/);
  const packed = await run(['pack'], { cwd: root });
  assert.equal(packed.code, 3);
  assert.match(packed.stderr, /broken.*\n.*REPAIR TABLE/s);
  assert.ok(!existsSync(join(root, 'crate/database.sql.gz')), 'nothing looks whole');
  writeFileSync(index, whole);
  database.sql('FLUSH TABLES');
  // Ctrl-C in the middle of a table ends at once, and leaves nothing that looks whole.
  const taking = () => existsSync(join(root, 'crate/taking/database.sql.gz.partial'));
  const interrupted = await run(['pack'], { cwd: root, interruptWhen: taking });
  assert.equal(interrupted.code, 130, interrupted.stderr);
  assert.ok(!existsSync(join(root, 'crate/database.sql.gz')));
  for (const name of ['pack', 'rewrite']) {
    const ran = await run([name], { cwd: root });
    assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  }
  const delivered = await run(['deliver', '--yes'], { cwd: root });
  assert.equal(delivered.code, 5, delivered.stdout + delivered.stderr);
  assert.match(delivered.stderr, /full/);
  assert.ok(delivered.stderr.trim().split('\n').length <= 3, delivered.stderr);
});

test('the demo runs on a real server, leaves nothing there, and touches nothing that is not its own', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  database.sql(
    "CREATE USER 'demo'@'localhost' IDENTIFIED BY 'd e$mo'; GRANT ALL ON *.* TO 'demo'@'localhost' WITH GRANT OPTION",
  );
  const there = () =>
    database.sql('SHOW DATABASES') + database.sql('SELECT User, Host FROM mysql.user ORDER BY 1, 2');
  const before = there();
  const demo = () =>
    run(['demo', '--database', `mysql://demo@127.0.0.1:${database.port}/`], {
      env: { DEMO_DATABASE_PASSWORD: 'd e$mo' },
    });
  const ran = await demo();
  assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  assert.match(ran.stdout, /Every check passed/);
  assert.equal(there(), before);
  database.sql('CREATE DATABASE able_porter_demo_new; CREATE TABLE able_porter_demo_new.mine (id int)');
  const refused = await demo();
  assert.equal(refused.code, 2, refused.stderr);
  assert.match(refused.stderr, /has a database able_porter_demo_new already/);
  assert.equal(database.sql('SHOW TABLES', 'able_porter_demo_new'), 'mine\n');
  database.sql('DROP DATABASE able_porter_demo_new');
});
