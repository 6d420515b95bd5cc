import assert from 'node:assert/strict';
import { execFileSync, spawn } from 'node:child_process';
import { cpSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { fileURLToPath } from 'node:url';
import { gunzipSync, gzipSync } from 'node:zlib';
import { parseAddress } from '../../src/core/address/address.js';
import { bytesOfText } from '../../src/core/bytes.js';
import { phpLiteral } from '../../src/core/site/php/strings.js';
import { DumpRows } from '../../src/core/sql/rows.js';
import { WebSite } from '../../src/ends/http.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { databaseForTests, freePort, listens, until } from './database.js';

const here = (name: string) => fileURLToPath(new URL(name, import.meta.url));
const oldAddress = 'https://club.saltmarsh.example/site';
const newAddress = 'https://saltmarshrowing.example';
const programs = ['php', 'mariadbd', 'mariadb-install-db', 'mariadb', 'mariadb-dump'];
const cms = '/usr/share/wordpress';

const started = databaseForTests();

/** Serves a folder by PHP's built-in server, as a host with TLS in front of it would, until the test ends. */
async function serve(t: TestContext, root: string, base: string, port: number): Promise<void> {
  const server = spawn('php', ['-S', `127.0.0.1:${port}`, '-t', root, here('router.php')], {
    env: { ...process.env, SITE_HTTPS: '1', SITE_BASE: base },
    stdio: 'ignore',
  });
  t.after(() => server.kill('SIGKILL'));
  await until('the web server', () => listens(port));
}

/** Values of a dump that PHP's own unserialize accepts, by table, row and column. */
function accepted(dump: Buffer): Set<string> {
  const rows = new DumpRows();
  rows.push(dump);
  rows.finish();
  const cells: { at: string; value: string }[] = [];
  for (const [table, list] of rows.tables()) {
    list.forEach((row, i) => {
      for (const [column, value] of Object.entries(row)) {
        if (value && /^[absidONrCE][:;]/.test(value))
          cells.push({ at: `${table.replace(/^(?:sr4|row)_/, '')} ${i} ${column}`, value });
      }
    });
  }
  const input = cells.map(({ value }) => `${Buffer.from(value, 'latin1').toString('base64')}\n`).join('');
  const answers = execFileSync('php', [here('unserialize.php')], { input })
    .toString()
    .trim()
    .split('\n');
  assert.equal(answers.length, cells.length);
  return new Set(cells.filter((_, i) => answers[i] === 'yes').map(({ at }) => at));
}

test('a real installation of the CMS moves: PHP reads every value, the CMS answers on the new address', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const database = started();
  assert.ok(database, 'the database server did not start');
  const root = folder(t);
  const site = join(root, 'old/site');
  cpSync(cms, site, { recursive: true, dereference: true });
  mkdirSync(join(site, 'wp-content/uploads'), { recursive: true });
  const passwords = { old: `o'ld\\ "$pw`, new: `n e"w'\\ %@$1` };
  const literal = (text: string) => `'${text.replace(/[\\']/g, '\\$&')}'`;
  database.sql(
    ['old', 'new']
      .map(
        end =>
          `CREATE DATABASE ${end}_club CHARACTER SET utf8mb4; CREATE USER '${end}'@'localhost' IDENTIFIED BY ${literal(passwords[end as 'old'])}; GRANT ALL ON ${end}_club.* TO '${end}'@'localhost';`,
      )
      .join('\n'),
  );
  const sample = readFileSync(join(site, 'wp-config-sample.php'), 'utf8');
  writeFileSync(
    join(site, 'wp-config.php'),
    sample
      .replace("'database_name_here'", "'old_club'")
      .replace("'username_here'", "'old'")
      .replace("'password_here'", phpLiteral(bytesOfText(passwords.old)))
      .replace("'localhost'", `'127.0.0.1:${database.port}'`)
      .replace("'wp_'", "'sr4_'"),
  );
  assert.match(
    execFileSync('php', [here('seed.php'), site, oldAddress], {
      stdio: ['ignore', 'pipe', 'inherit'],
    }).toString(),
    /seeded/,
  );
  const taken = database.dump('old_club');
  writeFileSync(join(root, 'old.sql.gz'), gzipSync(taken));

  const oldPort = await freePort();
  await serve(t, join(root, 'old'), '/site', oldPort);
  const newPort = await freePort();
  const move = join(root, 'move');
  mkdirSync(move);
  writeFileSync(
    join(move, 'move.yaml'),
    `# The new site cannot be reached yet; its pages are compared later.
name: club
old: { address: ${oldAddress}, reach: "http://127.0.0.1:${oldPort}", files: ../old/site, database: { dump: ../old.sql.gz } }
new:
  address: ${newAddress}
  #reach
  files: ../new/htdocs
  database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${PW}", prefix: row_, dump: ../new/finished.sql.gz }
`,
  );
  mkdirSync(join(root, 'new'));
  const env = { PW: passwords.new };
  const first = await run(['go', '--yes'], { cwd: move, env });
  assert.equal(first.code, 0, first.stdout + first.stderr);
  const finished = gunzipSync(readFileSync(join(root, 'new/finished.sql.gz')));
  database.sql(finished, 'new_club');

  const before = accepted(taken);
  const now = accepted(finished);
  assert.ok(before.size >= 20, `${before.size} serialized values`);
  assert.deepEqual(
    [...before].filter(cell => !now.has(cell)),
    [],
  );

  await serve(t, join(root, 'new/htdocs'), '', newPort);
  const reach = parseAddress(`http://127.0.0.1:${newPort}`);
  const next = new WebSite(parseAddress(newAddress), reach);
  const signal = AbortSignal.timeout(120_000);
  for (const path of ['/', '/curlew/', '/safety/', '/wp-login.php', '/wp-content/uploads/css/made.css']) {
    const { status, html, address } = await next.get(path, signal);
    assert.equal(status, 200, `${path} answers ${status}`);
    assert.ok(address.startsWith(newAddress), address);
    assert.ok(
      !/club\.saltmarsh|tmp-4417/.test(html.replaceAll('secretary@club.saltmarsh.example', '')),
      `an old address stands in ${path}`,
    );
    assert.ok(html.includes('saltmarshrowing.example'), path);
  }
  const login = await next.get('/wp-login.php', signal);
  assert.match(login.html, /name="log"/);

  const sheet = readFileSync(join(move, 'move.yaml'), 'utf8');
  writeFileSync(
    join(move, 'move.yaml'),
    sheet.replace('#reach', `reach: http://127.0.0.1:${newPort}\n  probe: true`),
  );
  const went = await run(['go', '--yes', '--json'], { cwd: move, env });
  assert.equal(went.code, 0, went.stdout.slice(-3000) + went.stderr);
  const { outcomes } = JSON.parse(went.stdout);
  assert.deepEqual(
    outcomes.map((one: { state: string }) => one.state),
    ['done', 'already done', 'already done', 'already done', 'done', 'already done', 'already done'],
  );
  const { old, new: next_, requirements } = outcomes[0].result;
  const said = (code: string) => execFileSync('php', ['-r', `echo ${code};`]).toString();
  assert.equal(next_.language.version, said('PHP_VERSION'));
  assert.equal(next_.language.folder, join(root, 'new/htdocs'));
  assert.match(next_.database.version, /MariaDB/);
  assert.deepEqual(next_.database.missingRights, []);
  assert.equal(
    old.version,
    said(`(function () { include '${cms}/wp-includes/version.php'; return $wp_version; })()`),
  );
  const met = (wanted: string) =>
    requirements
      .filter((one: { met: string }) => one.met === wanted)
      .map((one: { what: string }) => one.what);
  assert.deepEqual([met('no'), met('unknown')], [[], []]);
  assert.ok(met('yes').includes('PHP') && met('yes').includes('PHP extensions'));
  assert.deepEqual(
    readdirSync(join(root, 'new/htdocs')).filter(name => name.includes('probe')),
    [],
  );
  const { pages, tables } = outcomes[4].result;
  assert.ok(pages.length >= 6 && tables.every((one: { equal: boolean }) => one.equal));
  const odd = pages.filter((one: { verdict: string }) => !['same', 'old fails too'].includes(one.verdict));
  assert.deepEqual(odd, []);
});
