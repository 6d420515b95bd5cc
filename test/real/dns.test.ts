import assert from 'node:assert/strict';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import type { ByteString } from '../../src/core/bytes.js';
import { editZoneFile } from '../../src/core/dns/master-file/edit.js';
import { readZoneFile } from '../../src/core/dns/master-file/read.js';
import { messageToWire } from '../../src/core/dns/message/message.js';
import { signMessage, type TsigKey } from '../../src/core/dns/message/tsig.js';
import { updateMessage } from '../../src/core/dns/message/update.js';
import { dataFromText } from '../../src/core/dns/records/data.js';
import { below, type DnsName, parseName } from '../../src/core/dns/records/name.js';
import { type DnsRecord, recordLine } from '../../src/core/dns/records/record.js';
import { isOfSigning } from '../../src/core/dns/records/types.js';
import { reversed, type SetChange, sameSet } from '../../src/core/dns/zone/set-change.js';
import { Zone } from '../../src/core/dns/zone/zone.js';
import { exchangeOverTcp } from '../../src/ends/dns/exchange.js';
import { askFor } from '../../src/ends/dns/resolver.js';
import type { DnsServer } from '../../src/ends/dns/server.js';
import { serverOf } from '../../src/ends/dns/server.js';
import { transferZone } from '../../src/ends/dns/transfer.js';
import { sendUpdate } from '../../src/ends/dns/update.js';
import { StandinDnsServer } from '../../src/standins/dns/dns-server.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { apex } from '../help/zone-files.js';
import { until } from './database.js';
import { checkedZone, dnsServers, startDnsServer } from './dns-servers.js';

const signal = new AbortController().signal;
const key: TsigKey = {
  name: parseName('porter.'),
  algorithm: 'hmac-sha256',
  secret: Buffer.from('a secret of the tests'),
};
const strong: TsigKey = { name: parseName('strong.'), algorithm: 'hmac-sha512', secret: Buffer.alloc(64, 7) };

const zoneText = `$ORIGIN saltmarsh.example.
$TTL 86400
@	IN SOA ns1 keeper 2026110901 7200 900 1209600 3600
	NS ns1
	A 192.0.2.10
	AAAA 2001:db8::10
	MX 10 mail
	TXT "v=spf1 a mx -all"
ns1	A 127.0.0.1
www	CNAME @
club	600 A 192.0.2.10
*.tmp	A 192.0.2.10
mail	A 192.0.2.10
a\\.b	TXT "dots in a label"
odd	TYPE65280 \\# 4 0a000001
`;

function record(name: string, type: string, ttl: number, data: string): DnsRecord {
  return { name: parseName(name, apex), type, ttl, data: dataFromText(type, data) };
}

/** What a cutover asks for: other addresses, a shorter TTL, a new name, an alias that becomes an address. */
function changesOf(zone: Zone): SetChange[] {
  const set = (name: string, type: string, after: DnsRecord[]) => {
    const at = parseName(name, apex);
    return { name: at, type, before: zone.set(at, type), after };
  };
  return [
    set('@', 'A', [record('@', 'A', 300, '198.51.100.20'), record('@', 'A', 300, '198.51.100.21')]),
    set('@', 'AAAA', []),
    set('club', 'A', [record('club', 'A', 300, '192.0.2.10')]),
    set('www', 'CNAME', []),
    set('www', 'A', [record('www', 'A', 300, '198.51.100.20')]),
    set('fresh', 'A', [record('fresh', 'A', 300, '198.51.100.20')]),
    set('*.tmp', 'A', [record('*.tmp', 'A', 300, '198.51.100.20')]),
  ];
}

async function transferred(server: DnsServer, at: DnsName = apex): Promise<Zone> {
  return new Zone(at, await transferZone(server, at, key, signal));
}

/** The records that a person wrote, without the serial and what a server signs with. */
function ownLines({ records }: { records: readonly DnsRecord[] }): string[] {
  return records
    .filter(({ type }) => type !== 'SOA' && !isOfSigning(type))
    .map(recordLine)
    .sort();
}

const startStandin = async (t: TestContext, nature = {}): Promise<DnsServer> => {
  const server = new StandinDnsServer([zoneText], { keys: [key, strong], ...nature });
  t.after(() => server.close());
  return serverOf(await server.listen());
};

for (const program of [...dnsServers, 'the stand-in'] as const) {
  const start = (t: TestContext) =>
    program === 'the stand-in'
      ? startStandin(t)
      : startDnsServer(t, program, [{ apex, text: zoneText }], [key, strong]);

  test(`${program} gives its zone and takes an update with the right key, and back is the old zone`, async t => {
    if (program !== 'the stand-in' && !needs(t, program)) return;
    const server = await start(t);
    const file = readZoneFile({ text: zoneText as ByteString, origin: apex, include: () => assert.fail() });
    const before = await transferred(server);
    assert.deepEqual(ownLines(before), ownLines(file));
    const changes = changesOf(before);
    assert.equal(await sendUpdate(server, apex, changes, strong, signal), 'done');
    const after = await transferred(server);
    for (const { name, type, after: wanted } of changes)
      assert.ok(sameSet(after.set(name, type), wanted, { ttl: true }), `${name} ${type}`);
    assert.ok(after.serial !== before.serial);
    // The same once more finds other records than it was told, and changes nothing.
    assert.equal(await sendUpdate(server, apex, changes, key, signal), 'changed meanwhile');
    assert.equal((await transferred(server)).serial, after.serial);
    assert.equal(await sendUpdate(server, apex, reversed(changes), key, signal), 'done');
    assert.deepEqual(ownLines(await transferred(server)), ownLines(before));
  });

  test(`${program} refuses what is not signed rightly, and changes nothing`, async t => {
    if (program !== 'the stand-in' && !needs(t, program)) return;
    const server = await start(t);
    const before = await transferred(server);
    const changes = changesOf(before);
    const wrong: [TsigKey | undefined, RegExp][] = [
      [undefined, /answers (?:REFUSED|NOTAUTH)/],
      [{ ...key, secret: Buffer.from('another') }, /BADSIG/],
      [{ ...key, name: parseName('nobody.') }, /BADKEY/],
    ];
    for (const [bad, cause] of wrong) {
      await assert.rejects(transferZone(server, apex, bad, signal), cause);
      await assert.rejects(sendUpdate(server, apex, changes, bad, signal), cause);
    }
    // Signed an hour ago.
    const late = messageToWire(updateMessage(4711, apex, changes));
    const signed = signMessage(late, key, Math.floor(Date.now() / 1000) - 3600);
    for await (const answer of exchangeOverTcp(server, signed.wire, signal)) {
      assert.equal(answer[3]! & 15, 9);
      break;
    }
    // Somebody has given one of the sets another record meanwhile, or made a name that was free into an alias.
    const edits: [string, string, string][] = [
      ['club', 'A', '192.0.2.99'],
      ['fresh', 'CNAME', 'club.saltmarsh.example.'],
    ];
    for (const [name, type, data] of edits) {
      const zone = await transferred(server);
      const at = parseName(name, apex);
      const edit = { name: at, type, before: zone.set(at, type), after: [record(name, type, 60, data)] };
      assert.equal(await sendUpdate(server, apex, [edit], key, signal), 'done');
      assert.equal(await sendUpdate(server, apex, changes, key, signal), 'changed meanwhile', name);
      assert.equal(await sendUpdate(server, apex, reversed([edit]), key, signal), 'done');
    }
    assert.deepEqual(ownLines(await transferred(server)), ownLines(before));
  });
}

for (const program of dnsServers) {
  test(`${program}: a zone of ten thousand records, a signed one, and a copy that lags`, async t => {
    if (!needs(t, program)) return;
    const many = Array.from(
      { length: 10_000 },
      (_, i) => `h${i} A 192.0.2.${i % 250}\n h${i} TXT "number ${i}"`.split('\n')[0],
    );
    const large = parseName('large.example');
    const signed = parseName('signed.example');
    const others = (name: DnsName) => zoneText.replace('saltmarsh.example.', name);
    const server = await startDnsServer(
      t,
      program,
      [
        { apex, text: zoneText },
        { apex: large, text: `${others(large)}${many.join('\n')}\n` },
        { apex: signed, text: others(signed), signed: true },
      ],
      [key],
    );
    const copy = await startDnsServer(t, program, [{ apex, text: '', copyOf: { server, key } }], [key]);
    assert.equal(
      (await transferred(server, large)).records.filter(({ type }) => type === 'A').length,
      10_005,
    );
    await until('the signatures', async () => {
      return (await transferred(server, signed)).records.some(({ type }) => type === 'RRSIG');
    });
    const before = await transferred(server, signed);
    const at = below('club', signed);
    const change = {
      name: at,
      type: 'A',
      before: before.set(at, 'A'),
      after: [{ ...record('@', 'A', 300, '198.51.100.20'), name: at }],
    };
    assert.equal(await sendUpdate(server, signed, [change], key, signal), 'done');
    await until('the signed record', async () => {
      const { answers } = await askFor(server, at, 'A', signal);
      return answers.some(({ type, ttl }) => type === 'A' && ttl === 300);
    });
    // The copy is asked before it has the change.
    await until('the copy', async () => (await askFor(copy, apex, 'SOA', signal)).answers.length > 0);
    const zone = await transferred(server);
    assert.equal(await sendUpdate(server, apex, changesOf(zone), key, signal), 'done');
    const soa = async (of: DnsServer) => (await askFor(of, apex, 'SOA', signal)).answers[0]!;
    const [newer, older] = [await soa(server), await soa(copy)];
    assert.notDeepEqual(newer.data, older.data);
  });
}

/** Zone files as ten hands have written them. */
const hands: Record<string, string> = {
  panel: `; cPanel-like first line\n$TTL 14400\nsaltmarsh.example.\t86400\tIN\tSOA\tns1.oldhost.example.\troot.oldhost.example.\t(\n\t\t\t2026110901 ;Serial Number\n\t\t\t3600 ;refresh\n\t\t\t1800 ;retry\n\t\t\t1209600 ;expire\n\t\t\t86400 )\nsaltmarsh.example.\t86400\tIN\tNS\tns1.oldhost.example.\nsaltmarsh.example.\t14400\tIN\tA\t192.0.2.10\nwww\t14400\tIN\tCNAME\tsaltmarsh.example.\ndefault._domainkey\t14400\tIN\tTXT\t"v=DKIM1; k=rsa; p=MIIBIjANBgkqhkiG9w0BAQEFAAOCAQ8AMIIBCgKCAQEA" "secondPart=="\n`,
  old: `@ IN SOA ns.saltmarsh.example. keeper.saltmarsh.example. ( 1 3H 15M 1W 1D )\n IN NS ns\n IN MX 10 mail\nns IN A 192.0.2.1\nmail IN A 192.0.2.2\n`,
  units: `$TTL 1d12h\n@ 1w SOA ns keeper ( 2026110901 2h 15m 4w2d 1h )\n@ NS ns\nns 30m A 192.0.2.1\n`,
  origins: `$TTL 300\n$ORIGIN example.\nsaltmarsh SOA ns.saltmarsh keeper.saltmarsh 1 2 3 4 5\n NS ns.saltmarsh\n$ORIGIN club.saltmarsh.example.\nwww A 192.0.2.3\n$ORIGIN saltmarsh.example.\nns A 192.0.2.1\n$ORIGIN sub\nx A 192.0.2.4\n`,
  compact: `saltmarsh.example. 60 IN SOA . . 1 1 1 1 1\nsaltmarsh.example. 60 IN NS a.\nb.saltmarsh.example. 60 IN A 192.0.2.1\n`,
  crlf: '$TTL 1h\r\n@ SOA ns keeper (\r\n 1 2\r\n 3 4 5 )\r\n@ NS ns\r\nns A 192.0.2.1\r\n',
  odd: `$TTL 60\n@ SOA ns k\\.eeper 1 2 3 4 5\n@ NS ns\nns A 192.0.2.1\n\\042quoted\\" TXT plain "a\\;b" "\\200\\"" ""\n\\000\\255 A 192.0.2.9\n*.a.b MX 0 .\n_sip._tcp SRV 0 0 0 .\nloc LOC 51 30 N 0 W 3m\nh HTTPS 1 . alpn="h2,h3" ech=AAAA port=8443 ipv6hint=2001:db8::1,2001:db8::2 key65000="x\\"y"\ns SVCB 0 ns\n`,
  signed: `$TTL 60\n@ SOA ns keeper 1 2 3 4 5\n@ NS ns\nns A 192.0.2.1\n@ DNSKEY 257 3 ECDSAP256SHA256 mdsswUyr3DPW132mOi8V9xESWE8jTo0dxCjjnopKl+GqJxpVXckHAeF+KkxLbxILfDLUT0rAK9iUzy1L53eKGQ==\n@ RRSIG SOA 13 2 60 20271205000000 20261105000000 12345 @ (\n AAAA\n BBBB )\nns NSEC @ A RRSIG NSEC TYPE1234\n@ CDS 0 0 0 00\nchild NS ns\nchild DS 60485 RSASHA1 1 ( 2BB183AF5F22588179A53B0A 98631FAD1A292118 )\n0p9mhaveqvm6t7vbl5lop2u3t2rp3tom NSEC3 1 1 12 AABBCCDD ( 2t7b4g4vsa5smi47k61mv5bv1a22bojr MX DNSKEY NS SOA NSEC3PARAM RRSIG )\n`,
  unknown: `$TTL 60\n@ CLASS1 TYPE6 \\# 22 00 00 00000001 00000002 00000003 00000004 00000005\n@ NS ns\nns CLASS1 A \\# 4 C0000201\ne TYPE731 \\# 6 abcd (\n ef 01 23 45 )\n`,
  mixed: `$TTL 2h\n@\tIN\tSOA\tns1 keeper (2026110901 7200\n900 ; retry\n1209600 3600)\n\tNS ns1 ; the first\n\tNS ns2\n@\t3600 A 192.0.2.1\n\t600 A 192.0.2.2\nNS1 a 192.0.2.1\nns2 A 192.0.2.2\nWWW 300 IN CNAME NS1\nr RP keeper.x txt.x\nn NAPTR 100 50 "s" "z3950+I2L+I2C" "" _z3950._tcp\nc CAA 128 iodef "mailto:k@saltmarsh.example"\nu URI 10 1 "https://saltmarsh.example/"\nt TLSA 3 1 1 0D6FCE13 (243AA7 ) \nf SSHFP 4 2 (123456789ABCDEF67890 123456789ABCDEF67890123456789ABCDEF123456789)\n`,
};

test('zone files of ten hands are read as BIND reads them, and what is written is accepted', t => {
  if (!needs(t, 'named-checkzone')) return;
  const root = folder(t);
  const file = join(root, 'zone');
  const noFile = (): never => assert.fail();
  for (const [hand, text] of Object.entries(hands)) {
    writeFileSync(file, text, 'latin1');
    const checked = checkedZone(apex, file);
    assert.ok(checked.ok, `${hand}: ${checked.text}`);
    const ours = readZoneFile({ text: text as ByteString, origin: apex, include: noFile });
    const theirs = readZoneFile({ text: checked.text as ByteString, origin: apex, include: noFile });
    const lines = (all: readonly DnsRecord[]) =>
      all
        .map(recordLine)
        .map(line => line.toLowerCase())
        .sort();
    assert.deepEqual(lines(ours.records), lines(theirs.records), hand);
    const at = parseName('www', apex);
    const before = ours.records.filter(({ name, type }) => name.toLowerCase() === at && type === 'A');
    const alias = ours.records.filter(({ name, type }) => name.toLowerCase() === at && type === 'CNAME');
    const changes = [
      { name: at, type: 'CNAME', before: alias, after: [] },
      { name: at, type: 'A', before, after: [record('www', 'A', 300, '198.51.100.20')] },
    ];
    writeFileSync(file, editZoneFile(ours, changes, 77).get('')!, 'latin1');
    assert.ok(checkedZone(apex, file).ok, `${hand}: ${readFileSync(file, 'latin1')}`);
  }
  assert.equal(Object.keys(hands).length, 10);
});
