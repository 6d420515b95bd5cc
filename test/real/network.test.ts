import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { parseAddress } from '../../src/core/address/address.js';
import { WebSite } from '../../src/ends/http/web-site.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, here, installCms, makeDatabases, passwords, serve } from './cms.js';
import { databaseForTests, freePort } from './database.js';

const oldHost = 'club.saltmarsh.example';
const newHost = 'saltmarshrowing.example';
const started = databaseForTests();

/** Makes a network of a site, with a second site in the folder `juniors`. */
function makeNetwork(site: string): void {
  const configuration = join(site, 'wp-config.php');
  const step = (name: string) => {
    const said = execFileSync('php', [here('network.php'), site, oldHost, name]).toString();
    if (!said.includes('made')) throw new Error(`no network was made: ${said}`);
  };
  step('tables');
  const constants = `define( 'MULTISITE', true );
define( 'SUBDOMAIN_INSTALL', false );
define( 'DOMAIN_CURRENT_SITE', '${oldHost}' );
define( 'PATH_CURRENT_SITE', '/' );
define( 'SITE_ID_CURRENT_SITE', 1 );
define( 'BLOG_ID_CURRENT_SITE', 1 );
`;
  const source = readFileSync(configuration, 'utf8');
  writeFileSync(
    configuration,
    source.replace(/^(?=\/\* That's all|require_once)/m, () => constants),
  );
  step('site');
}

test('a network of sites moves to another host, and each of its sites answers there', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  const root = folder(t);
  const site = join(root, 'old');
  makeDatabases(database);
  installCms(database, site, `https://${oldHost}`);
  makeNetwork(site);
  const move = join(root, 'move');
  mkdirSync(move);
  writeFileSync(
    join(move, 'move.yaml'),
    `name: clubs
old: { address: https://${oldHost}, files: ../old, database: { from: configuration } }
new: { address: https://${newHost}, files: ../new, database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${PW}", prefix: row_ } }
`,
  );
  const env = { PW: passwords.new };
  for (const step of ['pack', 'rewrite', 'deliver']) {
    const ran = await run([step, '--yes'], { cwd: move, env });
    assert.equal(ran.code, 0, `${step}: ${ran.stdout}${ran.stderr}`);
  }
  const asked = (query: string) => database.sql(query, 'new_club').trim();
  assert.equal(
    asked('SELECT domain, path FROM row_blogs ORDER BY blog_id'),
    `${newHost}\t/\n${newHost}\t/juniors/`,
  );
  assert.equal(asked('SELECT domain FROM row_site'), newHost);
  assert.equal(
    asked("SELECT option_value FROM row_2_options WHERE option_name = 'home'"),
    `https://${newHost}/juniors`,
  );

  const port = await freePort();
  await serve(t, join(root, 'new'), '', port);
  const web = new WebSite(parseAddress(`https://${newHost}`), parseAddress(`http://127.0.0.1:${port}`));
  for (const [path, holds] of [
    ['/', 'Saltmarsh Rowing Club'],
    ['/safety/', 'Cold water'],
    ['/juniors/', 'Juniors'],
    ['/juniors/regatta/', 'All news'],
  ] as const) {
    const { status, html, address } = await web.get(path, AbortSignal.timeout(60_000));
    assert.equal(status, 200, path);
    assert.equal(address, `https://${newHost}${path}`);
    assert.ok(html.includes(holds), path);
    assert.ok(!html.replaceAll(`secretary@${oldHost}`, '').includes(oldHost), path);
  }
});
