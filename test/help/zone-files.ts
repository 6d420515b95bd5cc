import fc from 'fast-check';
import type { ByteString } from '../../src/core/bytes.js';
import { dataFromText, dataToText } from '../../src/core/dns/records/data.js';
import { type DnsName, nameOf, parseName, relativeName } from '../../src/core/dns/records/name.js';
import { type DnsRecord, recordKeyOf, setKeyOf } from '../../src/core/dns/records/record.js';

export const apex = parseName('saltmarsh.example');

const plain = fc.constantFrom('www', 'club', 'mail', 'a', 'b1', '*', '_dmarc', 'x-y', '10');
const odd = fc
  .array(fc.integer({ min: 0, max: 255 }), { minLength: 1, maxLength: 6 })
  .map(codes => String.fromCharCode(...codes));
const label = fc.oneof({ weight: 6, arbitrary: plain }, { weight: 1, arbitrary: odd });

/** Names in the zone, odd ones among them. */
export const ownName: fc.Arbitrary<DnsName> = fc
  .array(label, { maxLength: 3 })
  .map(labels => nameOf([...(labels as ByteString[]), 'saltmarsh' as ByteString, 'example' as ByteString]));

const anyName = fc.oneof(ownName, fc.constantFrom('mail.other.example.' as DnsName, '.' as DnsName));
const octet = fc.integer({ min: 0, max: 255 });
const u16 = fc.integer({ min: 0, max: 0xffff });
const bytes = fc.uint8Array({ maxLength: 40 }).map(data => Buffer.from(data));
const text = fc.oneof(
  fc.constantFrom('v=spf1 a mx -all', 'a "b" \\c ; d (e)', ''),
  bytes.map(data => data.toString('latin1')),
);
const quoted = (one: string) =>
  `"${[...one].map(char => `\\${String(char.charCodeAt(0)).padStart(3, '0')}`).join('')}"`;

/** The data of a record by its type. */
const dataOf: Readonly<Record<string, fc.Arbitrary<string>>> = {
  A: fc.tuple(octet, octet).map(([a, b]) => `192.0.${a}.${b}`),
  AAAA: fc.array(u16, { minLength: 8, maxLength: 8 }).map(all => all.map(one => one.toString(16)).join(':')),
  MX: fc.tuple(u16, anyName).map(([weight, name]) => `${weight} ${name}`),
  TXT: fc.array(text, { minLength: 1, maxLength: 3 }).map(all => all.map(quoted).join(' ')),
  SRV: fc.tuple(u16, u16, u16, anyName).map(all => all.join(' ')),
  CAA: fc.tuple(octet, text).map(([flags, value]) => `${flags} issue ${quoted(value)}`),
  TYPE65280: bytes.map(data => `\\# ${data.length} ${data.toString('hex')}`),
};

const wanted = fc
  .tuple(ownName, fc.constantFrom(...Object.keys(dataOf)), fc.constantFrom(60, 300, 3600, 86_400, 100_000))
  .chain(([name, type, ttl]) =>
    dataOf[type]!.map(data => ({ name, type, ttl, data: dataFromText(type, data) })),
  );

export const serial = 2026110901;
const soa: DnsRecord = {
  name: apex,
  type: 'SOA',
  ttl: 3600,
  data: dataFromText(
    'SOA',
    `ns1.saltmarsh.example. keeper.saltmarsh.example. ${serial} 7200 900 2419200 900`,
  ),
};

/** Some records of a zone: none twice, and one TTL in a set. */
export const someRecords: fc.Arbitrary<DnsRecord[]> = fc
  .array(wanted, { maxLength: 14 })
  .map(all => tidied([soa, ...all]));

export function tidied(records: readonly DnsRecord[]): DnsRecord[] {
  const ttls = new Map<string, number>();
  const seen = new Map<string, DnsRecord>();
  for (const record of records) {
    const key = setKeyOf(record);
    ttls.set(key, ttls.get(key) ?? record.ttl);
    if (!seen.has(recordKeyOf(record))) seen.set(recordKeyOf(record), { ...record, ttl: ttls.get(key)! });
  }
  return [...seen.values()];
}

/** How a hand writes its lines: for each record some choices between zero and one. */
export const someHand = fc.record({
  crlf: fc.boolean(),
  ttl: fc.boolean(),
  closed: fc.boolean(),
  choices: fc.array(fc.double({ min: 0, max: 1, noNaN: true }), { minLength: 40, maxLength: 40 }),
});

/** Writes a zone as some hand does, with owners, TTLs and classes left out where they may be. */
export function writtenBy(
  hand: typeof someHand extends fc.Arbitrary<infer H> ? H : never,
  records: readonly DnsRecord[],
): ByteString {
  let chosen = 0;
  const choose = (chance: number) => hand.choices[chosen++ % hand.choices.length]! < chance;
  const lines: string[] = [hand.ttl ? '$TTL 1h ; as usual' : '; no usual TTL'];
  let owner: DnsName | undefined;
  let before: number | undefined;
  let origin = apex;
  for (const [i, record] of records.entries()) {
    if (choose(0.1)) lines.push('', '  ; a comment (with a "quote', '');
    if (i > 0 && choose(0.08)) {
      origin = choose(0.5) ? apex : parseName('club', apex);
      lines.push(`$ORIGIN ${origin}`);
    }
    const name = record.name === owner && choose(0.6) ? '' : relative(record.name, origin, choose(0.6));
    const usual = hand.ttl ? 3600 : before;
    const ttl =
      record.ttl === usual && choose(0.7) ? [] : [choose(0.3) ? inUnits(record.ttl) : `${record.ttl}`];
    if (ttl[0] !== undefined) before = record.ttl;
    const kind = [...ttl, ...(choose(0.5) ? ['IN'] : [])];
    const head = [
      name,
      ...(choose(0.5) ? kind : kind.reverse()),
      choose(0.5) ? record.type : record.type.toLowerCase(),
    ];
    lines.push(
      `${head.join(choose(0.5) ? '\t' : '   ')} ${spread(dataToText(record.type, record.data), choose)}`,
    );
    owner = record.name;
  }
  const newline = hand.crlf ? '\r\n' : '\n';
  return (lines.join(newline) + (hand.closed ? newline : '')) as ByteString;
}

function relative(name: DnsName, origin: DnsName, wish: boolean): string {
  const written = wish ? relativeName(name, origin) : name;
  // A name of digits alone would be taken for a TTL only where the owner is left out.
  return written;
}

function inUnits(seconds: number): string {
  return seconds % 3600 === 0 ? `${seconds / 3600}h` : `${Math.floor(seconds / 60)}M${seconds % 60}s`;
}

/** The words of some data over several lines, in parentheses. */
function spread(data: string, choose: (chance: number) => boolean): string {
  const words = data.match(/"(?:[^"\\]|\\.)*"|(?:[^\s"\\]|\\.)+/gs)!;
  if (words.length < 2 || choose(0.6)) return data + (choose(0.3) ? ' ; note' : '');
  const first = choose(0.5) ? [] : [words.shift()!];
  return `${first.join(' ')} ( ${words.join(choose(0.5) ? '\n\t\t' : ' ; and\n ')} )`;
}
