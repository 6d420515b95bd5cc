import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { calendarOf } from '../../../src/core/dns/cutover/calendar.js';
import type { CutoverFacts, ZoneView } from '../../../src/core/dns/cutover/facts.js';
import { type CutoverPlan, planCutover } from '../../../src/core/dns/cutover/plan.js';
import { dataFromText } from '../../../src/core/dns/records/data.js';
import { hostOf, nameOfHost } from '../../../src/core/dns/records/name.js';
import { type DnsRecord, recordLine, setKeyOf } from '../../../src/core/dns/records/record.js';
import { changedRecords, composed, reversed } from '../../../src/core/dns/zone/set-change.js';
import { Zone } from '../../../src/core/dns/zone/zone.js';
import { cleanZone, factsOf, now, viewOf, zoneOfText } from '../../help/cutover-facts.js';
import { effort } from '../../help/effort.js';
import { someRecords } from '../../help/zone-files.js';

const record = (name: string, type: string, data: string): DnsRecord => ({
  name: nameOfHost(name),
  type,
  ttl: 3600,
  data: dataFromText(type, data),
});
const outside = (...records: DnsRecord[]) => ({
  outside: new Map(records.map(one => [setKeyOf(one), [one]])),
});
const later = (days: number) => Math.floor(now / 1000) + days * 86_400;
const stamp = (days: number) => new Date(later(days) * 1000).toISOString().replace(/\D/g, '').slice(0, 14);
const signature = (days: number) =>
  `@ RRSIG SOA 13 2 3600 ${stamp(days)} ${stamp(-30)} 12345 saltmarsh.example. AAAA\n`;
const oldName = { hosts: { old: nameOfHost('club.example'), new: nameOfHost('saltmarsh.example') } };
const manyIncludes = Array.from({ length: 11 }, (_, i) => `include:p${i}.example`).join(' ');

/** What is in the zone beyond the clean one, and what is found. */
const hazards: [found: string, extra: string, more?: Partial<CutoverFacts>, view?: Partial<ZoneView>][] = [
  ['stop dns-mail-moves saltmarsh.example', '@ MX 5 www\n'],
  [
    'warn dns-mail-at-old-host saltmarsh.example, warn dns-other-names saltmarsh.example',
    '@ MX 5 smtp\nsmtp A 192.0.2.10\n',
  ],
  ['warn dns-spf-old-host saltmarsh.example', '@ TXT "v=spf1 ip4:192.0.2.0/28 -all"\n'],
  ['warn dns-spf-old-host saltmarsh.example', '@ TXT "v=spf1 a -all"\n'],
  ['warn dns-spf-too-long saltmarsh.example', `@ TXT "v=spf1 ${manyIncludes} -all"\n`],
  [
    'warn dns-dmarc-strict saltmarsh.example, warn dns-spf-old-host saltmarsh.example',
    '@ TXT "v=spf1 a -all"\n_dmarc TXT "v=DMARC1; p=reject"\n',
  ],
  [
    'warn dns-dkim-old-host s1._domainkey.saltmarsh.example',
    's1._domainkey CNAME s1._domainkey.oldhost.example.\n',
    outside(record('oldhost.example', 'A', '192.0.2.10')),
  ],
  ['stop dns-service-old-host _imaps._tcp.saltmarsh.example', '_imaps._tcp SRV 0 0 993 www\n'],
  ['warn dns-other-names saltmarsh.example', 'autodiscover A 192.0.2.10\n'],
  ['warn dns-names-follow saltmarsh.example', 'shop CNAME www\n'],
  ['warn dns-ipv6-stays saltmarsh.example', '@ AAAA 2001:db8::10\n', { new: [{ address: '198.51.100.20' }] }],
  [
    'warn dns-alias club.saltmarsh.example',
    'club CNAME oldhost.example.\n',
    { names: [nameOfHost('club.saltmarsh.example')] },
  ],
  [
    'note dns-wildcard club.saltmarsh.example',
    '*  A 192.0.2.10\n',
    { names: [nameOfHost('club.saltmarsh.example')], old: [] },
  ],
  [
    'stop dns-dname a.b.saltmarsh.example',
    'b DNAME other.example.\n',
    { names: [nameOfHost('a.b.saltmarsh.example')] },
  ],
  [
    'stop dns-other-zone club.saltmarsh.example',
    'club NS ns.other.example.\n',
    { names: [nameOfHost('club.saltmarsh.example')] },
  ],
  ['stop dns-hints saltmarsh.example', '@ HTTPS 1 . alpn="h2" ipv4hint=192.0.2.10\n'],
  [
    'stop dns-caa-forbids saltmarsh.example, stop dns-caa-forbids www.saltmarsh.example',
    '@ CAA 0 issue "other.example"\n',
    { authority: 'ca.example' },
  ],
  [
    'note dns-caa saltmarsh.example, note dns-caa www.saltmarsh.example',
    '',
    { caaAbove: [record('example', 'CAA', '0 issue "ca.example"')] },
  ],
  ['stop dns-signatures-expired saltmarsh.example', signature(-1)],
  ['warn dns-signatures-end saltmarsh.example', signature(0.5)],
  [
    'stop dns-signed-file saltmarsh.example',
    `${signature(9)}@ DNSKEY 257 3 13 AAAA\n`,
    { method: 'zone file' },
  ],
  [
    'note dns-signed saltmarsh.example',
    '',
    { method: 'by hand' },
    { parent: { servers: [], ds: true, ttl: 86_400 } },
  ],
  ['warn dns-ttl-too-late saltmarsh.example', '', { when: now + 3_600_000 }],
  ['warn dns-proxy saltmarsh.example', '', { old: ['203.0.113.1'], names: [] }],
  ['warn dns-address-differs saltmarsh.example', '@ A 203.0.113.9\n'],
  ['stop dns-alias-conflict x.saltmarsh.example', 'x CNAME y\nx TXT "and"\n'],
  [
    'warn dns-new-name-in-use saltmarsh.example',
    '',
    {
      ...oldName,
      old: ['203.0.113.80'],
      zones: [viewOf(cleanZone), viewOf('club.example. 60 SOA a b 1 2 3 4 5\n A 203.0.113.80\n')],
    },
  ],
  [
    'stop dns-serial-behind saltmarsh.example',
    '',
    {},
    {
      servers: [
        { name: 'ns1', address: '192.0.2.53', serial: 2026113005, longestTtl: 60, trouble: undefined },
      ],
    },
  ],
  [
    'warn dns-server-behind saltmarsh.example',
    '',
    {},
    {
      servers: [2026113001, 2026112901].map(serial => ({
        name: `ns${serial}`,
        address: '192.0.2.53',
        serial,
        longestTtl: 60,
        trouble: undefined,
      })),
    },
  ],
  [
    'warn dns-server-silent saltmarsh.example',
    '',
    {},
    {
      servers: [
        { name: 'ns1', address: '192.0.2.53', serial: undefined, longestTtl: undefined, trouble: 'REFUSED' },
      ],
    },
  ],
  [
    'warn dns-delegation-differs saltmarsh.example',
    '',
    {},
    { parent: { servers: [nameOfHost('ns9.dns.example')], ds: false, ttl: 60 } },
  ],
  [
    'stop dns-record-missing mail.saltmarsh.example',
    '',
    { movedTo: [viewOf(cleanZone.replace(/mail A.*\n/, ''))] },
  ],
  [
    'warn dns-record-different www.saltmarsh.example',
    '',
    { movedTo: [viewOf(cleanZone.replace('www A 192.0.2.10', 'www A 192.0.2.11'))] },
  ],
  [
    'stop dns-ds-stays saltmarsh.example',
    '',
    { movedTo: [viewOf(cleanZone)] },
    { parent: { servers: [], ds: true, ttl: 86_400 } },
  ],
  [
    'warn dns-apex-alias saltmarsh.example',
    '',
    { new: [{ host: nameOfHost('web7.newhost.example'), addresses: ['198.51.100.20'] }], names: [] },
  ],
];

const foundBy = (plan: CutoverPlan) =>
  plan.findings.map(({ level, code, place }) => `${level} ${code} ${place}`).sort();

test('a clean zone finds nothing, and everything that a cutover endangers is found', () => {
  assert.deepEqual(foundBy(planCutover(factsOf(cleanZone))), []);
  for (const [found, extra, more, view] of hazards)
    assert.deepEqual(foundBy(planCutover(factsOf(cleanZone + extra, more, view))).join(', '), found, extra);
  assert.ok(new Set(hazards.map(([found]) => found.split(' ')[1])).size >= 30);
});

const linesOf = (records: readonly DnsRecord[]) => records.map(recordLine).sort();

test('the same name moves with its twin, first with short TTLs, and what is elsewhere stays', () => {
  const zone = `${cleanZone}@ AAAA 2001:db8::10\nshop A 203.0.113.5\n`.replace(
    'www A 192.0.2.10',
    'www CNAME @',
  );
  const plan = planCutover(factsOf(zone));
  assert.deepEqual(
    plan.names.map(({ name, fate, as }) => `${hostOf(name)} ${as}: ${fate}`),
    ['saltmarsh.example site: moves', 'www.saltmarsh.example twin: follows another name'],
  );
  const [changes] = plan.changes;
  const lines = (all: readonly { after: readonly DnsRecord[] }[]) =>
    all.flatMap(({ after }) => after.map(recordLine));
  assert.deepEqual(lines(changes!.prepare), [
    'saltmarsh.example. 300 IN A 192.0.2.10',
    'saltmarsh.example. 300 IN AAAA 2001:db8::10',
    'www.saltmarsh.example. 300 IN CNAME saltmarsh.example.',
  ]);
  assert.deepEqual(lines(changes!.switch), [
    'saltmarsh.example. 300 IN A 198.51.100.20',
    'saltmarsh.example. 300 IN AAAA 2001:db8::20',
  ]);
  assert.deepEqual(lines(changes!.raise), [
    'saltmarsh.example. 3600 IN A 198.51.100.20',
    'saltmarsh.example. 3600 IN AAAA 2001:db8::20',
    'www.saltmarsh.example. 3600 IN CNAME saltmarsh.example.',
  ]);
});

test('a new name is created before anybody is led there, and the old name stays', () => {
  const zone = cleanZone.replace(/^(?:@|www) A .*\n/gm, '');
  const plan = planCutover(
    factsOf(zone, {
      ...oldName,
      zones: [viewOf(zone), viewOf('club.example. 60 SOA a b 1 2 3 4 5\n A 192.0.2.10\n')],
    }),
  );
  assert.deepEqual(
    plan.names.map(({ name, fate }) => `${hostOf(name)}: ${fate}`),
    ['saltmarsh.example: is created', 'club.example: stays'],
  );
  assert.equal(plan.changes.length, 1);
  assert.deepEqual(plan.changes[0]!.switch, []);
  assert.deepEqual(plan.findings, []);
  assert.ok(plan.timeline.some(({ at, what }) => at === undefined && what.includes('saltmarsh.example')));
  assert.ok(plan.timeline.some(({ what }) => /redirects in place at club\.example/.test(what)));
});

test('an old name that stays may be in a zone that nobody could read', () => {
  const plan = planCutover(factsOf(cleanZone, { ...oldName, method: 'zone file' }));
  assert.deepEqual(foundBy(plan), []);
  const unread = planCutover(factsOf(cleanZone, { ...oldName, zones: [] }));
  assert.deepEqual(foundBy(unread), ['stop dns-other-zone saltmarsh.example']);
});

test('the timeline counts with the longest TTL of every server, and ends after the stragglers', () => {
  const servers = [3600, 86_400].map(longestTtl => ({ ...viewOf(cleanZone).servers[0]!, longestTtl }));
  const facts = factsOf(cleanZone, {}, { servers });
  const { timeline } = planCutover(facts);
  const at = (what: RegExp) => timeline.find(one => what.test(one.what))!.at!;
  assert.equal(facts.when - at(/Lower the TTLs/), (86_400 + 7200) * 1000);
  assert.equal(at(/90 %/) - facts.when, 270_000);
  assert.ok(at(/Earliest end of the old host/) > facts.when + 8 * 86_400_000);
  const times = timeline.map(one => one.at ?? 0);
  assert.deepEqual(
    times,
    times.toSorted((a, b) => a - b),
  );
  const calendar = calendarOf('saltmarsh, the club’s', timeline, now);
  assert.ok(calendar.split('\r\n').every(line => Buffer.byteLength(line) <= 75));
  assert.match(
    calendar,
    /^BEGIN:VCALENDAR\r\n[\s\S]*DTSTART:20261201T120000Z\r\nSUMMARY:saltmarsh\\, the club’s: Switch/,
  );
});

test('whatever is in a zone, the plan leads its names to the new host alone, and back gives the old zone', () => {
  fc.assert(
    fc.property(someRecords, fc.boolean(), (others, six) => {
      // The zone has an address of its own; random records are beside it.
      const { records } = zoneOfText(cleanZone);
      const own = new Set(['A', 'AAAA']);
      const zone = new Zone(records[0]!.name, [
        ...records,
        ...others.filter(
          ({ name, type }) =>
            type !== 'SOA' && !(own.has(type) && /^(?:www\.|mail\.|\*\.)*saltmarsh/.test(name)),
        ),
      ]);
      const facts = factsOf(cleanZone, {
        new: [{ address: '198.51.100.20' }, ...(six ? [{ address: '2001:db8::20' }] : [])],
      });
      const plan = planCutover({ ...facts, zones: [{ ...facts.zones[0]!, zone }] });
      const [changes] = plan.changes;
      const prepared = new Zone(zone.apex, changedRecords(zone, changes!.prepare));
      const switched = new Zone(zone.apex, changedRecords(prepared, changes!.switch));
      for (const name of ['saltmarsh.example', 'www.saltmarsh.example']) {
        const shown = switched
          .addressesOf(nameOfHost(name))
          .records.map(one => `${one.ttl} ${one.data.join('.')}`);
        assert.deepEqual(shown[0], '300 198.51.100.20', name);
        assert.equal(shown.length, six ? 2 : 1);
      }
      const raised = new Zone(zone.apex, changedRecords(switched, changes!.raise));
      const all = composed([...changes!.prepare, ...changes!.switch, ...changes!.raise]);
      assert.deepEqual(linesOf(changedRecords(raised, reversed(all))), linesOf(zone.records));
    }),
    { numRuns: effort(200, 2000) },
  );
});
