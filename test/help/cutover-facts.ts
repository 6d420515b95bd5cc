import type { ByteString } from '../../src/core/bytes.js';
import type { CutoverFacts, ServerSeen, ZoneView } from '../../src/core/dns/cutover/facts.js';
import { readZoneFile } from '../../src/core/dns/master-file/read.js';
import { nameOfHost } from '../../src/core/dns/records/name.js';
import { Zone } from '../../src/core/dns/zone/zone.js';

export const now = Date.UTC(2026, 10, 30, 12);
const hour = 3_600_000;

/** A zone with nothing that a cutover could endanger. */
export const cleanZone = `$ORIGIN saltmarsh.example.
$TTL 3600
@ SOA ns1.dns.example. keeper 2026113001 7200 900 1209600 900
 NS ns1.dns.example.
 NS ns2.dns.example.
 MX 10 mail
@ A 192.0.2.10
www A 192.0.2.10
mail A 192.0.2.25
`;

export function zoneOfText(text: string): Zone {
  const include = (): never => {
    throw new Error('no other file');
  };
  const { apex, records } = readZoneFile({ text: text as ByteString, origin: undefined, include });
  return new Zone(apex, records);
}

export function viewOf(text: string, more: Partial<ZoneView> = {}): ZoneView {
  const zone = zoneOfText(text);
  const server = (name: string): ServerSeen => ({
    name,
    address: '192.0.2.53',
    serial: zone.serial,
    longestTtl: undefined,
    trouble: undefined,
  });
  const servers = [server('ns1.dns.example'), server('ns2.dns.example')];
  return {
    zone,
    source: 'transfer',
    place: 'dns://192.0.2.53',
    isWhole: true,
    servers,
    parent: undefined,
    ...more,
  };
}

/** The facts of a site that keeps its name and moves to a new host; `text` is its zone. */
export function factsOf(
  text: string,
  more: Partial<CutoverFacts> = {},
  view: Partial<ZoneView> = {},
): CutoverFacts {
  const host = nameOfHost('saltmarsh.example');
  return {
    hosts: { old: host, new: host },
    names: [],
    old: ['192.0.2.10', '2001:db8::10'],
    new: [{ address: '198.51.100.20' }, { address: '2001:db8::20' }],
    zones: [viewOf(text, view)],
    movedTo: [],
    method: 'update',
    when: now + 24 * hour,
    isDated: true,
    now,
    timeZone: 'Europe/Berlin',
    shortTtl: 300,
    lastPass: 60_000,
    isSecure: true,
    proof: undefined,
    authority: undefined,
    outside: new Map(),
    caaAbove: [],
    ...more,
  };
}
