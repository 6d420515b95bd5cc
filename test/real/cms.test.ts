import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync, gzipSync } from 'node:zlib';
import { parseAddress } from '../../src/core/address/address.js';
import { DumpRows } from '../../src/core/sql/rows.js';
import { WebSite } from '../../src/ends/http/web-site.js';
import { bench } from '../help/bench.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsFolder, cmsPrograms, here, installCms, makeDatabases, passwords, serve } from './cms.js';
import { databaseForTests, freePort } from './database.js';

const oldAddress = 'https://club.saltmarsh.example/site';
const newAddress = 'https://saltmarshrowing.example';
const started = databaseForTests();

/** Values of a dump that PHP's own unserialize accepts, by table, row and column. */
function accepted(dump: Buffer): Set<string> {
  const rows = new DumpRows(bench);
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
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  const root = folder(t);
  const site = join(root, 'old/site');
  makeDatabases(database);
  installCms(database, site, oldAddress);
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
  // What is corrected comes along with the dump, and what is exported afterwards is compared with that in mind.
  const options = (where: string) =>
    database.sql(`SELECT COUNT(*) FROM row_options WHERE ${where}`, 'new_club').trim();
  assert.equal(options("option_name IN ('rewrite_rules', '_transient_creek_feed')"), '0');
  assert.notEqual(options("option_name LIKE '%transient%' OR option_name = 'home'"), '0');
  writeFileSync(join(root, 'export.sql'), database.dump('new_club'));
  const exported = await run(['check', '--export', '../export.sql', '--json'], { cwd: move, env });
  const compared: { equal: boolean; taken: number }[] = JSON.parse(exported.stdout).result.tables;
  assert.ok(compared.length >= 12 && compared.every(one => one.equal), exported.stdout.slice(0, 2000));
  assert.ok(compared.some(one => one.taken > 0));

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
    // The new site can be asked now: by check, and by the redirects for each target.
    ['done', 'already done', 'already done', 'already done', 'done', 'done', 'already done'],
  );
  const { old, new: next_, requirements } = outcomes[0].result;
  const said = (code: string) => execFileSync('php', ['-r', `echo ${code};`]).toString();
  assert.equal(next_.language.version, said('PHP_VERSION'));
  assert.equal(next_.language.folder, join(root, 'new/htdocs'));
  assert.match(next_.database.version, /MariaDB/);
  assert.deepEqual(next_.database.missingRights, []);
  assert.equal(
    old.version,
    said(`(function () { include '${cmsFolder}/wp-includes/version.php'; return $wp_version; })()`),
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
  // With its permalink rules made again the new site has pages that the old one, as it was seeded, has not.
  const odd = pages.filter(
    (one: { verdict: string; oldStatus: number }) =>
      !['same', 'old fails too'].includes(one.verdict) && one.oldStatus < 400,
  );
  assert.deepEqual(odd, []);
});

/** What two installations at two times do not share: their times, keys, and what counts them. */
const perInstallation = /(?:_key|_salt|password|_pass|_date(?:_gmt)?|_modified(?:_gmt)?|registered|guid)$/;
const madeAgain = /^(?:cron|rewrite_rules|_(?:site_)?transient_.*|.*_(?:key|salt)|recovery_keys)$/;

/** Every cell of a site's tables by table, row and column, without what no two installations share. */
function cellsOf(dump: Buffer): Map<string, string> {
  const rows = new DumpRows(bench);
  rows.push(dump);
  rows.finish();
  const cells = new Map<string, string>();
  for (const [table, list] of rows.tables()) {
    list.forEach((row, i) => {
      if (madeAgain.test(String(row.option_name))) return;
      for (const [column, value] of Object.entries(row)) {
        if (perInstallation.test(column)) continue;
        const id = row.option_name ?? Object.values(row)[0] ?? String(i);
        const text = String(value)
          .replace(/\b1[78]\d{8}\b/g, 'time')
          .replace(/\d{4}-\d\d-\d\d \d\d:\d\d:\d\d/g, 'time');
        cells.set(`${table} ${id} ${column}`, text);
      }
    });
  }
  return cells;
}

test('a moved site is as one that was born at the new address, cell for cell', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  const root = folder(t);
  const [old, born] = ['https://born.saltmarsh.example/~club', 'https://rowing.example/boats'];
  database.sql(
    ['moved', 'born']
      .map(
        name =>
          `CREATE DATABASE ${name}_club CHARACTER SET utf8mb4; GRANT ALL ON ${name}_club.* TO 'old'@'localhost';`,
      )
      .join(''),
  );
  installCms(database, join(root, 'moved'), old, 'moved_club');
  installCms(database, join(root, 'born'), born, 'born_club');
  writeFileSync(join(root, 'old.sql'), database.dump('moved_club'));
  mkdirSync(join(root, 'move'));
  writeFileSync(
    join(root, 'move/move.yaml'),
    `name: club\nold: { address: "${old}", files: ../moved, database: { dump: ../old.sql } }\nnew: { address: "${born}", database: { dump: ../new.sql } }\ntake: { files: false }\n`,
  );
  for (const step of ['pack', 'rewrite', 'deliver']) {
    const ran = await run([step, '--yes'], { cwd: join(root, 'move') });
    assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  }
  const [moved, wanted] = [readFileSync(join(root, 'new.sql')), database.dump('born_club')].map(cellsOf);
  assert.ok(moved!.size > 700, `${moved!.size} cells`);
  const differing = [...new Set([...moved!.keys(), ...wanted!.keys()])].filter(
    at => moved!.get(at) !== wanted!.get(at),
  );
  assert.deepEqual(
    differing.map(at => [at, moved!.get(at), wanted!.get(at)]),
    [],
  );
});
