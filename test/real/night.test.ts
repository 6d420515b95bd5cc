import assert from 'node:assert/strict';
import { randomUUID } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { join } from 'node:path';
import { test } from 'node:test';
import { setTimeout as pause } from 'node:timers/promises';
import type { TsigKey } from '../../src/core/dns/message/tsig.js';
import { addressToText } from '../../src/core/dns/records/ip.js';
import { nameOfHost, parseName } from '../../src/core/dns/records/name.js';
import { serialOf } from '../../src/core/dns/zone/serial.js';
import { askFor } from '../../src/ends/dns/resolver.js';
import { serverText } from '../../src/ends/dns/server.js';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { apachePhp, cmsPrograms, cmsRules, installCms, makeDatabases, passwords } from './cms.js';
import { databaseForTests, until } from './database.js';
import { startDnsServer } from './dns-servers.js';
import { startApache } from './web-servers.js';

const started = databaseForTests();
const signal = new AbortController().signal;
const host = 'club.saltmarsh.example';
const address = `https://${host}/site`;
const key: TsigKey = {
  name: parseName('porter.'),
  algorithm: 'hmac-sha256',
  secret: Buffer.from('low water'),
};
const [oldIp, newIp] = ['192.0.2.10', '198.51.100.20'];

/** What a visitor writes, through the CMS's own functions; now and then it takes a while. */
const writes = `<?php
require __DIR__ . '/wp-load.php';
if (random_int(0, 9) === 0) usleep(700000);
global $wpdb;
$done = $wpdb->insert($wpdb->comments, ['comment_post_ID' => 1, 'comment_content' => $_POST['text'], 'comment_author' => 'visitor', 'comment_author_email' => '', 'comment_author_IP' => '', 'comment_agent' => '', 'comment_date' => current_time('mysql'), 'comment_date_gmt' => current_time('mysql', 1)]);
http_response_code($done ? 200 : 500);
echo $done ? 'written' : 'failed';
`;

function ask(
  port: number,
  method: string,
  path: string,
  body = '',
): Promise<{ status: number; text: string }> {
  return new Promise((resolve, reject) => {
    const headers = {
      host,
      'x-forwarded-proto': 'https',
      ...(method === 'POST' ? { 'content-type': 'application/x-www-form-urlencoded' } : {}),
    };
    const asking = request({ host: '127.0.0.1', port, method, path, headers }, answer => {
      let text = '';
      answer.on('data', chunk => {
        text += chunk;
      });
      answer.on('end', () => resolve({ status: answer.statusCode!, text }));
    });
    asking.on('error', reject);
    asking.end(body);
  });
}

test('a whole night: who writes all the time loses nothing, whatever moment it is killed at, and one update is sent', {
  timeout: 1_500_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, 'apache2', 'named')) return;
  const database = started();
  makeDatabases(database);
  const root = folder(t);
  chmodSync(root, 0o755);
  const site = join(root, 'old/site');
  installCms(database, site, address);
  const rules = cmsRules('/site/');
  writeFileSync(join(site, '.htaccess'), rules);
  writeFileSync(join(site, 'note.php'), writes);
  const configuration = readFileSync(join(site, 'wp-config.php'), 'utf8');
  writeFileSync(
    join(site, 'wp-config.php'),
    configuration.replace('<?php', "<?php\ndefine( 'DISABLE_WP_CRON', true );"),
  );
  const old = await startApache(t, join(root, 'old'), apachePhp);
  t.after(old.stop);
  mkdirSync(join(root, 'new/site'), { recursive: true });
  const next = await startApache(t, join(root, 'new'), apachePhp);
  t.after(next.stop);
  const apex = parseName('saltmarsh.example.');
  const zone = `$ORIGIN saltmarsh.example.\n@ 300 SOA ns1 keeper 1 7200 900 1209600 60\n@ 300 NS ns1\nns1 300 A 127.0.0.1\nclub 300 A ${oldIp}\nmail 300 A 192.0.2.25\n@ 300 MX 5 mail\n`;
  const dns = await startDnsServer(t, 'named', [{ apex, text: zone }], [key]);
  const move = join(root, 'move');
  mkdirSync(move);
  writeFileSync(
    join(move, 'move.yaml'),
    `name: club
old: { address: ${address}, reach: "http://127.0.0.1:${old.port}", files: ../old/site, database: { from: configuration } }
new:
  address: ${address}
  reach: "http://127.0.0.1:${next.port}"
  files: ../new/site
  database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${PW}", prefix: row_ }
check: { pages: 20 }
dns:
  server: dns://${serverText(dns)}
  servers: ["${serverText(dns)}"]
  resolvers: ["${serverText(dns)}"]
  key: { name: porter., secret: "${key.secret.toString('base64')}" }
  address-records: { old: ${oldIp}, new: ${newIp} }
`,
  );
  const env = { PW: passwords.new };
  const night = ['cutover', 'night', '--yes', '--quiet', '--json', '--limit', '30', '--every', '0.3'];
  const step = async (args: string[]) => {
    const ran = await run(args, { cwd: move, env });
    assert.equal(ran.code, 0, `${args.join(' ')}: ${ran.stdout.slice(0, 3000)}${ran.stderr.slice(-2000)}`);
    return JSON.parse(ran.stdout);
  };
  await step(['go', '--yes', '--quiet', '--json']);
  await step(['cutover', 'prepare', '--yes', '--quiet', '--json']);
  // The page of the CMS itself: shown, not carried along, and gone again.
  const sheet = readFileSync(join(move, 'move.yaml'), 'utf8');
  writeFileSync(join(move, 'move.yaml'), `${sheet}  freeze: maintenance\n`);
  const quiet = ['--yes', '--quiet', '--json'];
  await step(['cutover', 'freeze', '--minutes', '3', ...quiet]);
  assert.equal((await ask(old.port, 'GET', '/site/')).status, 503);
  await step(['pack', '--again', ...quiet]);
  assert.ok(
    !existsSync(join(move, 'crate/files/.maintenance')) && existsSync(join(move, 'crate/files/index.php')),
  );
  await step(['cutover', 'thaw', ...quiet]);
  assert.equal((await ask(old.port, 'GET', '/site/')).status, 200);
  // It is over by itself once its time is.
  writeFileSync(join(site, '.maintenance'), `<?php $upgrading = ${Math.floor(Date.now() / 1000) - 601};\n`);
  assert.equal((await ask(old.port, 'GET', '/site/')).status, 200);
  rmSync(join(site, '.maintenance'));
  writeFileSync(join(move, 'move.yaml'), sheet);

  const serial = async () => serialOf((await askFor(dns, apex, 'SOA', signal)).answers[0]!.data);

  // A visitor, who asks the DNS each time and writes.
  const written: { text: string; at: 'old' | 'new' }[] = [];
  const sights: string[] = [];
  let goesOn = true;
  const visitor = async () => {
    while (goesOn) {
      const { answers } = await askFor(dns, nameOfHost(host), 'A', signal);
      const at = addressToText(answers[0]!.data) === newIp ? 'new' : 'old';
      const { port } = at === 'new' ? next : old;
      const text = randomUUID();
      const answer = await ask(port, 'POST', '/site/note.php', `text=${text}`);
      if (answer.status === 200 && answer.text === 'written') written.push({ text, at });
      else if (answer.status !== 503)
        assert.fail(`${at} answers ${answer.status}: ${answer.text.slice(0, 300)}`);
      const page = await ask(port, 'GET', '/site/');
      assert.equal(page.status, 200, `the ${at} front page`);
      const sight = answer.status === 503 ? 'refused' : at;
      if (sights.at(-1) !== sight) sights.push(sight);
      await pause(20);
    }
  };
  const visitors = Promise.all([visitor(), visitor(), visitor()]);
  const before = await serial();
  const hasWritten = (end: 'old' | 'new') =>
    until(`writing at the ${end} site`, () => written.some(({ at }) => at === end));
  await hasWritten('old');
  let last: { result: { life: string; frozenSeconds: number } };
  try {
    const kills = Number(process.env.ABLE_PORTER_KILLS ?? effort(0, 12));
    // Each is killed somewhere on its way; those after it resume.
    for (let i = 0; i < kills; i++) {
      const killAt = 1 + Math.floor(Math.random() * 900);
      await run(night, { cwd: move, env, killAt });
    }
    last = await step(night);
    await hasWritten('new');
  } finally {
    goesOn = false;
    await visitors;
  }
  assert.equal(last.result.life, 'live');
  assert.equal((await serial()) - before, 1);
  const there = new Set(
    database
      .sql("SELECT comment_content FROM row_comments WHERE comment_author = 'visitor'", 'new_club')
      .split('\n'),
  );
  assert.deepEqual(
    written.filter(({ text }) => !there.has(text)),
    [],
  );
  const order = sights.filter((sight, i) => i === 0 || sight !== sights[i - 1]);
  // Between the old site and the new one nobody can write; visitors that ask at the same moment may see either.
  assert.ok(order.indexOf('refused') > 0 && order.indexOf('new') > order.indexOf('refused'), order.join());
  assert.ok(!order.slice(order.indexOf('new')).includes('old'), order.join());
  assert.equal(readFileSync(join(site, '.htaccess'), 'utf8'), rules);
  assert.equal(readFileSync(join(root, 'new/site/.htaccess'), 'utf8').includes('freeze'), false);
  t.diagnostic(`frozen for ${last.result.frozenSeconds} s; ${written.length} writes, of which none is lost`);
});
