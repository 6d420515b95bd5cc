import assert from 'node:assert/strict';
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { parseAddress } from '../../src/core/address/address.js';
import { WebSite } from '../../src/ends/http.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, here, installCms, makeDatabases, passwords, serve } from './cms.js';
import { databaseForTests, freePort } from './database.js';
import { ownSsh } from './ssh.js';

const started = databaseForTests();
const oldAddress = 'https://club.saltmarsh.example/site';
const newAddress = 'https://saltmarshrowing.example';
const programs = ['mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump'];

/** What a dump by the server's own program says, without what a load may change and no row or column is. */
function comparable(dump: Buffer): string {
  return dump
    .toString('latin1')
    .replace(/\/\*!50017 DEFINER=\S+ \*\/|DEFINER=`[^`]*`@`[^`]*`|\/\*!50013 .*?\*\//g, '')
    .replace(/^.*SET (?:sql_mode|time_zone).*$|^-- Dump completed.*$/gm, '');
}

/** Every file of the move folder but the secrets, as text, to look for what must not be in it. */
function written(move: string): string {
  return readdirSync(move, { recursive: true })
    .map(String)
    .filter(name => name !== '.env' && !name.endsWith('.gz') && statSync(join(move, name)).isFile())
    .map(name => readFileSync(join(move, name), 'latin1'))
    .join('\n');
}

test('every type of column comes through a live move, compared with the dumps of the server’s own program', {
  timeout: 120_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started()!;
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
    comparable(database.dump(name, ...options, `--ignore-table=${name}.other`)),
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

  // Changed at the new end, it is told and is no damage; a table that is gone is.
  database.sql('UPDATE types_new.zero SET v = 9; DROP TRIGGER types_new.tr');
  const changed = await run(['check', '--json'], { cwd: root });
  assert.equal(changed.code, 1);
  const told = (JSON.parse(changed.stdout).findings as { code: string }[]).map(({ code }) => code);
  assert.ok(told.includes('table-changed-since') && told.includes('program-missing'), told.join());
  database.sql('DROP TABLE types_new.lone');
  const gone = JSON.parse((await run(['check', '--json'], { cwd: root })).stdout);
  assert.ok(gone.findings.some(({ code }: { code: string }) => code === 'table-missing'));

  const undone = await run(['undo', '--yes'], { cwd: root });
  assert.equal(undone.code, 0, undone.stderr);
  assert.equal(comparable(database.dump('types_new')), before);
});

test('a whole move of the CMS over SFTP, both databases by way of SSH, ends with the CMS answering from the new one', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, '/usr/sbin/sshd', 'ssh-keygen')) return;
  const database = started()!;
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
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
  const oldPort = await freePort();
  await serve(t, at('old'), '/site', oldPort);
  const newPort = await freePort();
  writeFileSync(at('move/.env'), `NEW=\`${passwords.new}\`\nADMIN=neap & spring\n`, { mode: 0o600 });
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
take: { database: { tables: { without: ["sr4_two_*"] } } }
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
  // The CMS itself takes the new password.
  const { execFileSync } = await import('node:child_process');
  const login_ = execFileSync('php', [
    here('login.php'),
    at('new/htdocs'),
    'tamsin',
    'neap & spring',
  ]).toString();
  assert.equal(login_, 'in: tamsin@saltmarshrowing.example');

  const tidied = await step('tidy', '--yes');
  assert.ok(
    tidied.result.remember.some((line: string) => line.includes('creek-cache/creek-cache.php')),
    tidied.result.remember.join('\n'),
  );
  // No password in anything that was said or written.
  const all = said.join('\n') + written(at('move'));
  for (const secret of [...Object.values(passwords), 'neap & spring'])
    for (const form of [secret, JSON.stringify(secret).slice(1, -1), encodeURIComponent(secret)])
      assert.ok(!all.includes(form), `a password was shown as ${form}`);
  assert.ok(!existsSync(at('move/crate')));
});
