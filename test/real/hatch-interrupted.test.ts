import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { chmodSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, here } from './cms.js';
import { comparable, databaseForTests } from './database.js';
import { ownFtp } from './ftp.js';
import { cheapHosts, type HostKind, hostPrograms, startHost } from './hatch-hosts.js';

const started = databaseForTests();

test('killed at any moment, one hatch is left at most, and the next run takes it away and ends what was begun', {
  timeout: 1_800_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, ...hostPrograms)) return;
  const { database, root, cwd, step, left } = await cheapHosts(t, started(), 'apache-fpm');
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

for (const [from, to] of [
  ['apache-fpm', 'nginx-pdo'],
  ['nginx-pdo', 'apache-fpm'],
] as const)
  test(
    `every type of column comes through hatches, and a table that is longer than a slice: ${from} to ${to}`,
    {
      timeout: 900_000,
    },
    t => everyType(t, { old: from, new: to }),
  );

async function everyType(
  t: TestContext,
  kinds: { readonly old: HostKind; readonly new: HostKind },
): Promise<void> {
  if (!needs(t, ...hostPrograms, 'mariadbd', 'mariadb', 'mariadb-dump')) return;
  const database = started();
  const root = folder(t);
  chmodSync(root, 0o755);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  const rows = effort(20_000, 100_000);
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
    `{ address: "http://${name}.example", reach: "http://127.0.0.1:${await startHost(t, kinds[name], join(root, name))}", files: "ftps://porter@127.0.0.1:${ftp.port}${join(root, name)}", login: { password: ${JSON.stringify(ftp.password)}, host-key: "${ftp.fingerprint}" }, hatch: true, database: { server: "mysql://p@127.0.0.1:${database.port}/${base}", password: p q, through: files } }`;
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
    if (step === 'pack') assert.match(ran.stdout, /tables were read in \d+ requests through the hatch/);
    t.diagnostic(`${step} ${Date.now() - began} ms`);
  }
  const options = ['--hex-blob', '--skip-comments', '--routines', '--events', '--order-by-primary'];
  const [old, next] = ['types', 'types_new'].map(name => comparable(database.dump(name, ...options)));
  assert.equal(next, old);
  const floats = (name: string) => database.sql(`SELECT id, fl*1e0, db, HEX(ge), secret FROM ${name}.t_all`);
  assert.equal(floats('types_new').toString(), floats('types').toString());
  database.sql("DROP DATABASE types; DROP DATABASE types_new; DROP USER 'p'@'localhost'");
}
