import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { chmodSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { isOfHatch } from '../../src/ends/hatch/place.js';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, here, installCms, makeDatabases, passwords } from './cms.js';
import { comparable, databaseForTests } from './database.js';
import { ownFtp } from './ftp.js';
import { type HostKind, hostPrograms, hosts, startHost } from './hatch-hosts.js';

const started = databaseForTests();

/** Both ends of a move at hosts that have FTP and PHP and nothing else. */
async function cheapHosts(t: TestContext, host: HostKind) {
  const database = started();
  const root = folder(t);
  chmodSync(root, 0o755);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  database.sql(
    'DROP DATABASE IF EXISTS old_club; DROP DATABASE IF EXISTS new_club; DROP USER IF EXISTS old@localhost; DROP USER IF EXISTS new@localhost',
  );
  makeDatabases(database);
  installCms(database, join(root, 'old'), 'http://old.example');
  const ftp = await ownFtp(t, root, 'explicit', { clients: 8 });
  const ports = {
    old: await startHost(t, host, join(root, 'old')),
    new: await startHost(t, host, join(root, 'new')),
  };
  const end = (name: 'old' | 'new') =>
    `address: "http://${name}.example", reach: "http://127.0.0.1:${ports[name]}", files: "ftps://porter@127.0.0.1:${ftp.port}${join(root, name)}", login: { password: ${JSON.stringify(ftp.password)}, host-key: "${ftp.fingerprint}" }, hatch: true`;
  const cwd = join(root, 'move');
  writeFileSync(
    join(cwd, 'move.yaml'),
    `name: hatch
old: { ${end('old')}, database: { from: configuration } }
new: { ${end('new')}, database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: ${JSON.stringify(passwords.new)}, through: files } }
`,
  );
  const step = async (args: readonly string[], code = 0) => {
    const ran = await run([...args, '--yes'], { cwd, env: { HOME: root } });
    assert.equal(ran.code, code, `${args.join(' ')}: ${ran.stdout}${ran.stderr}`);
    return ran.stdout;
  };
  /** What of hatches lies in the web roots and above. */
  const left = () =>
    [root, join(root, 'old'), join(root, 'new')].flatMap(at => readdirSync(at).filter(isOfHatch));
  return { database, root, cwd, step, left };
}

/** Every file below a folder with its content's checksum, mode and time. */
function treeOf(at: string): string {
  return execFileSync(
    'sh',
    ['-c', 'find . -printf "%y %m %P %l\\n" | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum'],
    {
      cwd: at,
    },
  ).toString();
}

for (const host of hosts)
  test(`the life of a move of a real CMS through hatches alone: ${host}`, { timeout: 900_000 }, async t => {
    if (!needs(t, ...cmsPrograms, ...hostPrograms)) return;
    const { database, root, cwd, step, left } = await cheapHosts(t, host);
    const before = treeOf(join(root, 'old'));
    const survey = (await step(['survey'])).replace(/\s+/g, ' ');
    assert.match(
      survey,
      /take (?:about [\d.]+|under 1) s over FTP and (?:about [\d.]+|under 1) s through the hatch/,
    );
    assert.match(survey, /PHP 8\.\d+\.\d+ \([\w-]+\) has 64M of memory and 10 s for a request/);
    await step(['go']);
    assert.equal(treeOf(join(root, 'old')), before, 'nothing at the old end has changed');
    assert.deepEqual(left(), []);
    assert.match(
      database.sql("SELECT option_value FROM new_club.sr4_options WHERE option_name='home'").toString(),
      /http:\/\/new\.example/,
    );
    const like = (path: string) => statSync(join(root, 'new', path));
    const same = statSync(join(root, 'old/wp-includes/version.php'));
    assert.deepEqual(
      [like('wp-includes/version.php').mode, Math.floor(like('wp-includes/version.php').mtimeMs / 1000)],
      [same.mode, Math.floor(same.mtimeMs / 1000)],
    );
    // A second delivery after changes at the old site.
    writeFileSync(join(root, "old/wp-content/uploads/naïve ~ 'quoted'.txt"), 'tide');
    database.sql("UPDATE old_club.sr4_posts SET post_title='Ebb' WHERE post_type='page' LIMIT 1");
    await step(['go']);
    assert.equal(readFileSync(join(root, "new/wp-content/uploads/naïve ~ 'quoted'.txt"), 'utf8'), 'tide');
    assert.match(
      database.sql("SELECT COUNT(*) FROM new_club.sr4_posts WHERE post_title='Ebb'").toString(),
      /^1$/m,
    );
    await step(['undo']);
    assert.deepEqual(readdirSync(join(root, 'new')), []);
    // Where PHP writes as the account does, the new host takes the files from the old one itself.
    const delivered = (await step(['deliver'])).replace(/\s+/g, ' ');
    assert.match(
      delivered,
      host === 'apache-module' ? /transferred file by file/ : /transferred from host to host/,
    );
    await step(['check']);
    const tidied = await step(['tidy']);
    assert.match(tidied, /hatches, over FTP and HTTP: none/);
    assert.deepEqual(left(), []);
    // No secret of a hatch is written down.
    for (const name of readdirSync(cwd, { recursive: true }).map(String))
      if (statSync(join(cwd, name)).isFile())
        assert.doesNotMatch(readFileSync(join(cwd, name), 'latin1'), /PRIVATE KEY|'secret'/, name);
  });

test('killed at any moment, one hatch is left at most, and the next run takes it away and ends what was begun', {
  timeout: 1_800_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, ...hostPrograms)) return;
  const { database, root, cwd, step, left } = await cheapHosts(t, 'apache-fpm');
  const kills = effort(6, 50);
  for (let i = 0; i < kills; i++) {
    const after = 300 + Math.random() * 9000;
    await run(['go', '--yes'], {
      cwd,
      env: { HOME: root },
      onStart: kill => setTimeout(kill, after),
    });
    const there = left().filter(name => name.endsWith('.php'));
    // A probe may be killed beside the hatch that it is for; each end has its own.
    assert.ok(there.length <= 2, there.join());
  }
  await step(['go']);
  assert.deepEqual(left(), []);
  const [was, is] = ['old', 'new'].map(end =>
    execFileSync('sh', [
      '-c',
      `cd ${join(root, end)}; find . -type f ! -name wp-config.php ! -path "*/css/made.css" -print0 | sort -z | xargs -0 sha256sum`,
    ]).toString(),
  );
  assert.equal(is, was);
  const rows = (name: string) => database.sql(`SELECT COUNT(*) FROM ${name}_club.sr4_posts`).toString();
  assert.equal(rows('new'), rows('old'));
  assert.match(await step(['tidy']), /hatches, over FTP and HTTP: none/);
});

test('every type of column comes through hatches, and a table that is longer than a slice', {
  timeout: 900_000,
}, async t => {
  if (!needs(t, ...hostPrograms, 'mariadbd', 'mariadb', 'mariadb-dump')) return;
  const database = started();
  const root = folder(t);
  chmodSync(root, 0o755);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  const rows = effort(20_000, 500_000);
  database.sql(
    `CREATE DATABASE types CHARACTER SET utf8mb4; CREATE DATABASE types_new; CREATE USER 'p'@'localhost' IDENTIFIED BY 'p q'; GRANT ALL ON types.* TO 'p'@'localhost'; GRANT ALL ON types_new.* TO 'p'@'localhost'; USE types; SET sql_mode='';
${readFileSync(here('types.sql'), 'utf8')}`,
  );
  database.sql(
    `UPDATE mysql.proc SET definer='p@localhost' WHERE db='types'; FLUSH PRIVILEGES; USE types;
     CREATE TABLE long_one (id bigint PRIMARY KEY, t longtext, b blob); INSERT INTO long_one SELECT seq, concat(repeat(md5(seq), 30), '\\'' , char(10)), unhex(repeat(md5(-seq), 3)) FROM seq_1_to_${rows}`,
  );
  const ftp = await ownFtp(t, root, 'explicit', { clients: 8 });
  const end = async (name: 'old' | 'new', base: string) =>
    `{ address: "http://${name}.example", reach: "http://127.0.0.1:${await startHost(t, 'apache-fpm', join(root, name))}", files: "ftps://porter@127.0.0.1:${ftp.port}${join(root, name)}", login: { password: ${JSON.stringify(ftp.password)}, host-key: "${ftp.fingerprint}" }, hatch: true, database: { server: "mysql://p@127.0.0.1:${database.port}/${base}", password: p q, through: files } }`;
  const cwd = join(root, 'move');
  writeFileSync(
    join(cwd, 'move.yaml'),
    `name: types
old: ${await end('old', 'types')}
new: ${await end('new', 'types_new')}
take: { files: false, database: { routines: true, events: true } }
`,
  );
  for (const step of ['pack', 'rewrite', 'deliver', 'check']) {
    const began = Date.now();
    const ran = await run([step, '--yes'], { cwd, env: { HOME: root } });
    assert.ok(ran.code === 0 || step === 'check', `${step}: ${ran.stdout}${ran.stderr}`);
    t.diagnostic(`${step} ${Date.now() - began} ms`);
  }
  const options = ['--hex-blob', '--skip-comments', '--routines', '--events', '--order-by-primary'];
  const [old, next] = ['types', 'types_new'].map(name => comparable(database.dump(name, ...options)));
  assert.equal(next, old);
  const floats = (name: string) => database.sql(`SELECT id, fl*1e0, db, HEX(ge), secret FROM ${name}.t_all`);
  assert.equal(floats('types_new').toString(), floats('types').toString());
  database.sql("DROP DATABASE types; DROP DATABASE types_new; DROP USER 'p'@'localhost'");
});
