import assert from 'node:assert/strict';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { test } from 'node:test';
import { setTimeout as pause } from 'node:timers/promises';
import type { TsigKey } from '../../src/core/dns/message/tsig.js';
import { hostOf, nameOfHost, parseName, rootName } from '../../src/core/dns/records/name.js';
import { followDelegation } from '../../src/ends/dns/delegation.js';
import { Resolver } from '../../src/ends/dns/resolver.js';
import { type DnsServer, serverText } from '../../src/ends/dns/server.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { type dnsServers, startDnsServer, startResolver } from './dns-servers.js';

const signal = new AbortController().signal;
const key: TsigKey = {
  name: parseName('porter.'),
  algorithm: 'hmac-sha256',
  secret: Buffer.from('ebb and flood'),
};
const soa = (names: string) => `@ 3600 SOA ${names} 1 7200 900 1209600 4\n`;

test('the delegation is followed from the root, and a watch over a real resolver ends when its cache has run out', async t => {
  if (!needs(t, 'knotd', 'unbound')) return;
  // Servers that a delegation names are asked at their own port.
  if (process.getuid?.() !== 0) return t.skip('only the superuser may listen at port 53');
  const start = (
    program: (typeof dnsServers)[number],
    host: string,
    apex: string,
    text: string,
    keys: TsigKey[] = [],
  ) =>
    startDnsServer(t, program, [{ apex: apex === '.' ? rootName : parseName(apex), text }], keys, {
      host,
      port: 53,
    });
  await start(
    'knotd',
    '127.0.53.1',
    '.',
    `$ORIGIN .\n${soa('a.root.example. k.root.example.')}@ 3600 NS a.root.example.\na.root.example. 3600 A 127.0.53.1\nexample. 3600 NS a.nic.example.\na.nic.example. 3600 A 127.0.53.2\n`,
  );
  await start(
    'knotd',
    '127.0.53.2',
    'example.',
    `$ORIGIN example.\n${soa('a.nic k.nic')}@ 3600 NS a.nic\na.nic 3600 A 127.0.53.2\nsaltmarsh 3600 NS ns1.saltmarsh\nsaltmarsh 3600 NS ns2.saltmarsh\nns1.saltmarsh 3600 A 127.0.53.3\nns2.saltmarsh 3600 A 127.0.53.4\n`,
  );
  // Long enough for a slow machine to switch before the resolver asks again.
  const ttl = 40;
  const zone = `$ORIGIN saltmarsh.example.\n${soa('ns1 keeper').replace('7200 900', '2 1')}@ 3600 NS ns1\n@ 3600 NS ns2\nns1 3600 A 127.0.53.3\nns2 3600 A 127.0.53.4\n@ ${ttl} A 192.0.2.10\nwww ${ttl} CNAME @\n`;
  const apex = parseName('saltmarsh.example.');
  const primary = await start('knotd', '127.0.53.3', 'saltmarsh.example.', zone, [key]);
  await startDnsServer(t, 'knotd', [{ apex, text: '', copyOf: { server: primary, key } }], [key], {
    host: '127.0.53.4',
    port: 53,
  });
  const resolver: DnsServer = await startResolver(t, '127.0.53.1');
  const resolve = new Resolver([serverText(resolver)]);
  const found = await followDelegation(resolve, nameOfHost('www.saltmarsh.example'), signal);
  assert.deepEqual(
    [hostOf(found.apex), found.servers.map(({ server }) => serverText(server)).sort(), found.parent?.ds],
    ['saltmarsh.example', ['127.0.53.3', '127.0.53.4'], false],
  );

  const root = folder(t);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  const serve = async (end: string) => {
    const server = createServer((request, response) => {
      try {
        response.end(readFileSync(join(root, end, request.url!.slice(1))));
      } catch {
        response.writeHead(404).end();
      }
    });
    await new Promise<void>(done => server.listen(0, '127.0.0.1', done));
    t.after(() => server.close());
    return `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  };
  writeFileSync(join(root, 'old/index.html'), '<title>Club</title>');
  writeFileSync(join(root, 'new/index.html'), '<title>Club</title>');
  writeFileSync(
    join(root, 'move/move.yaml'),
    `name: saltmarsh
old: { address: "http://saltmarsh.example", reach: "${await serve('old')}", files: ../old }
new: { address: "http://saltmarsh.example", reach: "${await serve('new')}", files: ../new }
take: { database: false }
dns:
  server: dns://127.0.53.3
  key: { name: porter., secret: "${key.secret.toString('base64')}" }
  resolvers: ["${serverText(resolver)}"]
  short-ttl: 60
  address-records: { old: 192.0.2.10, new: 198.51.100.20 }
`,
  );
  const step = async (args: string[], code = 0) => {
    const ran = await run(['cutover', ...args, '--json', '--quiet', '--yes'], { cwd: join(root, 'move') });
    assert.equal(ran.code, code, `${args}: ${ran.stdout}${ran.stderr}`);
    return JSON.parse(ran.stdout);
  };
  const plan = await step([]);
  assert.deepEqual([plan.findings, plan.result.zones[0].servers.length], [[], 2]);
  assert.deepEqual(
    plan.result.names.map(({ fate }: { fate: string }) => fate),
    ['moves', 'follows another name'],
  );
  await step(['prepare']);
  // The resolver keeps what it has, and counts down.
  const left = async () => (await resolve.records('saltmarsh.example', 'A', signal))[0]!.ttl;
  const first = await left();
  await pause(2100);
  assert.ok((await left()) < first);
  const before = await step(['watch', '--limit', '0'], 1);
  assert.ok(before.result.addresses.every(({ http }: { http: string }) => http === 'old'));
  const { result } = await step(['switch']);
  assert.deepEqual(result.zones[0].behind, []);
  const late = await step(['watch', '--limit', '0'], 1);
  const agreed = (kind: string) =>
    late.result.answers.filter(
      (one: { kind: string; addresses: string[] }) =>
        one.kind === kind && one.addresses.includes('198.51.100.20'),
    ).length;
  assert.deepEqual([agreed('server'), agreed('resolver')], [4, 0]);
  const done = await step(['watch', '--limit', '120', '--every', '1']);
  assert.ok(done.result.addresses.every(({ http }: { http: string }) => http === 'new'));
});
