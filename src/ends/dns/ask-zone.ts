import pMap from 'p-map';
import { below, type DnsName, sameName } from '../../core/dns/records/name.js';
import { type DnsRecord, recordKeyOf } from '../../core/dns/records/record.js';
import { newId } from './exchange.js';
import { askFor } from './resolver.js';
import type { DnsServer } from './server.js';

const atOnce = 8;

/** What is asked of the apex of a zone, and of any name in it. */
const apexTypes = ['SOA', 'NS', 'A', 'AAAA', 'MX', 'TXT', 'CAA', 'HTTPS', 'DNSKEY', 'RRSIG'];
const nameTypes = ['A', 'AAAA', 'CNAME', 'HTTPS', 'CAA', 'MX', 'TXT', 'NS'];

/** Names that zones have for mail and for programs that look for it, with their types. */
const usual: readonly (readonly [prefixes: readonly string[], types: readonly string[]])[] = [
  [
    [
      'www',
      'mail',
      'smtp',
      'imap',
      'pop',
      'webmail',
      'ftp',
      'autodiscover',
      'autoconfig',
      'm',
      'shop',
      'blog',
      'cpanel',
    ],
    ['A', 'AAAA', 'CNAME'],
  ],
  [
    ['_dmarc', '_mta-sts', '_smtp._tls'],
    ['TXT', 'CNAME'],
  ],
  [
    ['default', 'mail', 'dkim', 'google', 'selector1', 'selector2', 's1', 's2', 'k1'].map(
      one => `${one}._domainkey`,
    ),
    ['TXT', 'CNAME'],
  ],
  [
    [
      '_imap',
      '_imaps',
      '_pop3s',
      '_submission',
      '_submissions',
      '_autodiscover',
      '_caldavs',
      '_carddavs',
    ].map(one => `${one}._tcp`),
    ['SRV'],
  ],
];

/**
 * Asks an authoritative server for every name that matters to a cutover, where it gives nobody its whole zone.
 * @param names further names in the zone
 * @returns the records that it has of them; a wildcard's as those of `*`
 */
export async function askZone(
  server: DnsServer,
  apex: DnsName,
  names: readonly DnsName[],
  signal: AbortSignal,
): Promise<DnsRecord[]> {
  const probe = below(`able-porter-${newId()}`, apex);
  const questions: [DnsName, string][] = [
    ...apexTypes.map((type): [DnsName, string] => [apex, type]),
    ...['A', 'AAAA', 'CNAME'].map((type): [DnsName, string] => [probe, type]),
    ...names
      .filter(name => !sameName(name, apex))
      .flatMap(name => nameTypes.map((type): [DnsName, string] => [name, type])),
    ...usual.flatMap(([prefixes, types]) =>
      prefixes.flatMap(prefix => types.map((type): [DnsName, string] => [below(prefix, apex), type])),
    ),
  ];
  const answers = await pMap(
    questions,
    async ([name, type]) => {
      const { answers: all } = await askFor(server, name, type, signal);
      return all.filter(record => sameName(record.name, name));
    },
    { concurrency: atOnce, signal },
  );
  const found = new Map(answers.flat().map(record => [recordKeyOf(record), record]));
  const wildcard = [...found.values()].filter(({ name }) => sameName(name, probe));
  // What a name has as the wildcard does comes from there.
  const isWild = (record: DnsRecord) =>
    wildcard.some(({ type, data }) => type === record.type && data.equals(record.data));
  const own = [...found.values()].filter(record => sameName(record.name, apex) || !isWild(record));
  return [...own, ...wildcard.map(record => ({ ...record, name: below('*', apex) }))];
}
