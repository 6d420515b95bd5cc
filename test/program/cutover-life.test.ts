import assert from 'node:assert/strict';
import { createSocket } from 'node:dgram';
import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import type { TsigKey } from '../../src/core/dns/message/tsig.js';
import { nameOfHost, parseName } from '../../src/core/dns/records/name.js';
import { type DnsRecord, recordLine } from '../../src/core/dns/records/record.js';
import { StandinDatabase } from '../../src/standins/database.js';
import { StandinDnsServer } from '../../src/standins/dns/dns-server.js';
import { StandinResolver } from '../../src/standins/dns/resolver.js';
import { StandinWebSite } from '../../src/standins/web/web-site.js';
import { makeClub } from '../help/club.js';
import { folder, operationsOf, run } from '../help/program.js';

const key: TsigKey = {
  name: parseName('porter'),
  algorithm: 'hmac-sha512',
  secret: Buffer.from('spring tide'),
};
const zone = `; the club's zone
$ORIGIN saltmarsh.example.
$TTL 4h
@	SOA ns1 keeper ( 2026110901 ; serial
	2h 15m 2w 5m )
	NS ns1
	MX 10 mail	; stays
ns1	A 192.0.2.53
club	A 192.0.2.10	; the site
	AAAA 2001:db8::10
mail	A 192.0.2.25
`;
const host = nameOfHost('club.saltmarsh.example');
const addresses = 'address-records: { old: [192.0.2.10, "2001:db8::10"], new: [198.51.100.20] }';

/** A move of the club that keeps its name, with its old site served. */
async function club(t: TestContext, dns: string) {
  const root = folder(t);
  const database = new StandinDatabase({ name: 'club_old', user: 'club', password: 'o\'ld"pw' });
  const web = new StandinWebSite(join(root, 'old/site'), '/site', database);
  const reach = await web.listen();
  t.after(() => web.close());
  const cwd = await makeClub(root, sheet =>
    sheet
      .replace('https://saltmarshrowing.example', 'https://club.saltmarsh.example/site')
      .replace('  files: ../old/site', `  reach: ${reach}\n  files: ../old/site`)
      .replace(/dns: .*/, dns),
  );
  await database.load(join(root, 'old/club.sql.gz'));
  const step = async (args: string[], code = 0) => {
    const ran = await run([...args, '--json', '--quiet', '--yes'], { cwd });
    assert.equal(ran.code, code, `${args.join(' ')}: ${ran.stdout.slice(0, 3000)}${ran.stderr}`);
    return ran.stdout === '' ? { stderr: ran.stderr } : JSON.parse(ran.stdout);
  };
  return { root, cwd, step, reach };
}

async function served(t: TestContext, speed = 600) {
  const server = new StandinDnsServer([zone], { keys: [key] });
  const resolver = new StandinResolver([server], { speed });
  t.after(() => Promise.all([server.close(), resolver.close()]));
  const [at, resolvers] = [await server.listen(), await resolver.listen()];
  const dns = `dns:
  server: dns://${at}
  servers: ["${at}"]
  key: { name: porter, algorithm: hmac-sha512, secret: "${key.secret.toString('base64')}" }
  resolvers: ["${resolvers}"]
  ${addresses}`;
  return { server, dns };
}

const linesOf = (records: readonly DnsRecord[]) =>
  records
    .filter(({ type }) => type !== 'SOA')
    .map(recordLine)
    .sort();

test('a cutover by updates: planned, prepared, frozen, switched once, watched, and back', async t => {
  const { server, dns } = await served(t);
  const { root, cwd, step, reach } = await club(t, dns);
  const before = linesOf(server.zoneOf(host)!.records);
  const shown = (type: string) => server.zoneOf(host)!.set(host, type).map(recordLine);

  assert.match((await step(['cutover', 'switch'], 2)).stderr, /not planned yet/);
  await step(['go']);
  const plan = await step(['cutover']);
  assert.deepEqual(
    plan.findings.map(({ level, code }: { level: string; code: string }) => `${level} ${code}`),
    ['warn dns-ipv6-stays'],
  );
  assert.ok(readFileSync(join(cwd, 'cutover.ics'), 'utf8').includes('BEGIN:VEVENT'));
  const prepared = await step(['cutover', 'prepare']);
  assert.deepEqual(shown('A'), ['club.saltmarsh.example. 300 IN A 192.0.2.10']);
  const marker = prepared.result.marker;
  assert.equal(readFileSync(join(root, 'old/site', marker), 'utf8'), 'able-porter marker: old\n');
  assert.equal(readFileSync(join(root, 'new/htdocs', marker), 'utf8'), 'able-porter marker: new\n');

  // Whoever writes to the old site is refused, and whoever reads is not.
  const htaccess = () => readFileSync(join(root, 'old/site/.htaccess'), 'latin1');
  const own = htaccess();
  const frozen = await step(['cutover', 'freeze', '--minutes', '5']);
  assert.equal(frozen.result.proven, true);
  const isRefused = async (method: string, path: string) =>
    (await fetch(reach + path, { method, redirect: 'manual' })).status === 503;
  assert.deepEqual(
    [
      await isRefused('GET', '/site/'),
      await isRefused('POST', '/site/'),
      await isRefused('GET', '/site/wp-admin/'),
    ],
    [false, true, true],
  );
  await step(['cutover', 'freeze', '--minutes', '9']);
  assert.equal(htaccess().match(/freeze of the move, begin/g)?.length, 1);
  await step(['cutover', 'thaw']);
  assert.equal(htaccess(), own);

  const resolved = await step(['cutover', 'watch', '--limit', '0'], 1);
  assert.ok(
    resolved.result.answers.every((one: { addresses: string[] }) => one.addresses.includes('192.0.2.10')),
  );
  const switched = await step(['cutover', 'switch']);
  assert.equal(switched.result.life, 'live');
  assert.deepEqual([shown('A'), shown('AAAA')], [['club.saltmarsh.example. 300 IN A 198.51.100.20'], []]);
  const sent = server.updates;
  assert.equal((await step(['cutover', 'switch'])).result.zones[0].state, 'already so');
  assert.equal(server.updates, sent);
  const watched = await step(['cutover', 'watch', '--limit', '30', '--every', '0.2']);
  assert.equal(watched.result.agreed, watched.result.of);
  await step(['cutover', 'raise']);
  assert.deepEqual(shown('A'), ['club.saltmarsh.example. 14400 IN A 198.51.100.20']);

  // What somebody else has changed meanwhile stays, and stops what would lose it.
  const text = (more: string) =>
    `$ORIGIN saltmarsh.example.\n@ 60 SOA ns1 keeper 9 7200 900 1209600 300\n${server
      .zoneOf(host)!
      .records.filter(({ type }) => type !== 'SOA')
      .map(recordLine)
      .join('\n')}\n${more}`;
  const asSwitched = text('');
  server.put(text('club 300 A 203.0.113.9\n'));
  const refused = await step(['cutover', 'back'], 1);
  assert.equal(refused.findings[0].code, 'dns-changed-meanwhile');
  assert.equal(shown('A').length, 2);
  server.put(`${asSwitched}other 60 A 203.0.113.5\n`);
  assert.equal((await step(['cutover', 'back'])).result.life, 'open');
  assert.deepEqual(
    linesOf(server.zoneOf(host)!.records),
    [...before, 'other.saltmarsh.example. 60 IN A 203.0.113.5'].sort(),
  );
  // The second time round all is planned anew.
  await step(['cutover']);
  await step(['cutover', 'switch']);
  assert.deepEqual(shown('A'), ['club.saltmarsh.example. 300 IN A 198.51.100.20']);
  await step(['tidy', '--unchecked']);
  for (const end of ['old/site', 'new/htdocs'])
    assert.ok(!readdirSync(join(root, end)).some(name => name.includes('porter')));
  const journal = readFileSync(join(cwd, 'journal.ndjson'), 'utf8');
  assert.ok(!journal.includes(key.secret.toString('base64')) && !journal.includes('spring tide'));
});

test('a watch outlives resolvers that refuse, are slow, keep too long, truncate or say nonsense', async t => {
  const { server, dns } = await served(t);
  const long = `${zone}club TXT "${'x'.repeat(200)}"\n${Array.from({ length: 40 }, (_, i) => ` A 192.0.2.${100 + i}\n`).join('')}`;
  server.put(long);
  const odd = [{ refuses: true }, { slow: 600, speed: 20_000 }, { leastTtl: 100_000 }].map(
    one => new StandinResolver([server], one),
  );
  const nonsense = createSocket('udp4');
  nonsense.on('message', (_, from) => nonsense.send('nonsense', from.port, from.address));
  await new Promise<void>(done => nonsense.bind(0, '127.0.0.1', done));
  t.after(() => Promise.all([nonsense.close(), ...odd.map(one => one.close())]));
  const ports = await Promise.all(odd.map(one => one.listen()));
  const all = [...ports, `127.0.0.1:${nonsense.address().port}`];
  const { step } = await club(t, dns.replace(/resolvers: \["/, `resolvers: ["${all.join('", "')}", "`));
  await step(['go']);
  await step(['cutover', 'watch', '--limit', '0'], 1);
  await step(['cutover', 'switch']);
  const { result } = await step(['cutover', 'watch', '--limit', '8', '--every', '0.2'], 1);
  const of = (who: string) => result.answers.find((one: { who: string }) => one.who === who);
  assert.match(of(all[0]!).trouble, /REFUSED/);
  assert.deepEqual(of(all[1]!).addresses, ['198.51.100.20']);
  // More than a datagram holds, and kept far longer than the zone wished.
  assert.equal(of(all[2]!).addresses.length, 42);
  assert.equal(of(all[2]!).ttl, 14_400);
  assert.match(of(all[3]!).trouble, /does not answer/);
  assert.deepEqual([result.of, result.silent], [4, 2]);
  assert.ok(result.agreed >= 2 && result.agreed < 4);
});

test('killed at any moment and run again, the switch is made once', async t => {
  const { server, dns } = await served(t);
  const { cwd, step } = await club(t, dns);
  await step(['go']);
  await step(['cutover', 'prepare']);
  const before = server.updates;
  const all = await operationsOf(t, ['cutover', 'switch', '--yes'], { cwd });
  await step(['cutover', 'back']);
  await step(['cutover']);
  for (let at = 1; at <= all; at += Math.ceil(all / 8)) {
    const sent = server.updates;
    await run(['cutover', 'switch', '--yes'], { cwd, killAt: at });
    await step(['cutover', 'switch']);
    assert.equal(server.updates, sent + 1, `killed at ${at} of ${all}`);
    await run(['cutover', 'back', '--yes'], { cwd, killAt: at });
    await step(['cutover', 'back']);
    assert.equal(server.updates, sent + 2, `killed at ${at} of ${all}, and back`);
    await step(['cutover']);
  }
  assert.ok(server.updates > before);
});

test('a cutover in the zone file changes its lines only, and back is the file but for its serial', async t => {
  const { root, cwd, step } = await club(t, `dns: { zone: ../saltmarsh.zone, ${addresses} }`);
  const file = join(root, 'saltmarsh.zone');
  writeFileSync(file, zone, { mode: 0o640 });
  await step(['go']);
  const linesThere = () => readFileSync(file, 'latin1').split('\n');
  await step(['cutover', 'prepare']);
  await step(['cutover', 'switch']);
  const changed = linesThere().filter(line => !zone.split('\n').includes(line));
  assert.deepEqual(
    changed.map(line => line.replace(/20\d{8}/, 'S')),
    ['@	SOA ns1 keeper ( S ; serial', 'club	300 A 198.51.100.20	; the site'],
  );
  assert.ok(!linesThere().includes('	AAAA 2001:db8::10'));
  assert.ok(readdirSync(join(cwd, 'cutover/kept')).length > 0);
  await step(['cutover', 'back']);
  const back = linesThere()
    .join('\n')
    .replace(/20\d{8}/, 'S');
  assert.equal(
    back.replace('club	14400 A', 'club	A').replace(/club\t14400\tIN\tAAAA\t/, '	AAAA '),
    zone.replace(/20\d{8}/, 'S'),
  );
});

test('where nobody may change the zone, the list is for typing, and the move is live when that is noted', async t => {
  const server = new StandinDnsServer([zone], { closed: true });
  t.after(() => server.close());
  const at = await server.listen();
  const { cwd, step } = await club(t, `dns: { servers: ["${at}"], ${addresses} }`);
  await step(['go']);
  const plan = await step(['cutover']);
  assert.deepEqual([plan.result.method, plan.result.zones[0].source], ['by hand', 'questions']);
  const { result } = await step(['cutover', 'switch']);
  assert.deepEqual([result.life, result.zones[0].state], ['open', 'by hand']);
  assert.deepEqual(
    result.zones[0].changes.flatMap((one: { after: string[] }) => one.after),
    ['club.saltmarsh.example. 300 IN A 198.51.100.20'],
  );
  assert.equal(server.updates, 0);
  await step(['cutover', 'switch', '--by-hand']);
  assert.ok(existsSync(join(cwd, 'journal.ndjson')));
  assert.equal((await step(['status'])).life, 'live');
});

test('a freeze that does not hold is taken back, and a maintenance file of somebody else stays', async t => {
  const { dns } = await served(t);
  const { root, step } = await club(t, `${dns}\n  freeze: maintenance`);
  await step(['go']);
  const file = join(root, 'old/site/.maintenance');
  // The stand-in shows no such page, so that the freeze is taken back.
  const failed = await step(['cutover', 'freeze', '--minutes', '7'], 1);
  assert.deepEqual([failed.findings[0].code, existsSync(file)], ['freeze-failed', false]);
  writeFileSync(join(root, 'old/site/.maintenance'), '<?php $upgrading = 5;\n');
  assert.match((await step(['cutover', 'freeze'], 2)).stderr, /maintenance file is there already/);
});

test('a night goes as far as each result allows, opens the old site again, and resumes', async t => {
  const { server, dns } = await served(t, 2000);
  const { root, step } = await club(t, dns);
  await step(['go']);
  await step(['cutover', 'prepare']);
  const own = readFileSync(join(root, 'old/site/.htaccess'), 'latin1');
  // A fault that check finds stops it before the switch.
  writeFileSync(join(root, 'old/site/wp-config.php'), 'not a configuration');
  const stopped = await step(['cutover', 'night', '--limit', '5'], 1);
  assert.equal(stopped.result.life, 'open');
  assert.equal(stopped.result.parts.at(-1).what, 'thaw');
  assert.equal(readFileSync(join(root, 'old/site/.htaccess'), 'latin1'), own);
  assert.ok(server.updates <= 1);
});
