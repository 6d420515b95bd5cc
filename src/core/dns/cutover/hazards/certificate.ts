import { asBytes, textOf } from '../../../bytes.js';
import type { Finding } from '../../../findings/findings.js';
import { listed } from '../../../text/listed.js';
import { type DnsName, hostOf, parentOf, rootName } from '../../records/name.js';
import { type DnsRecord, setKeyOf } from '../../records/record.js';
import { about, type Hazards } from './context.js';

/** Whether the certificate authority may give out certificates for the names (CAA, RFC 8659). */
export function certificateHazards(hazards: Hazards): Finding[] {
  const names = hazards.names.filter(
    ({ fate }) => fate !== 'stays' && fate !== 'is not in a zone that was read',
  );
  return names.flatMap(({ name }) => {
    const { records, at } = recordsInForce(hazards, name);
    const issuers = records.flatMap(issuerOf);
    if (issuers.length === 0) return [];
    const { authority } = hazards.facts;
    const allowed = listed(issuers.map(one => (one === '' ? 'nobody' : one)));
    if (authority === undefined) {
      return about(
        name,
        'note',
        'dns-caa',
        `A CAA record of ${hostOf(at)} allows only ${allowed} to give out certificates`,
        'Make sure that the new host’s certificate authority is among them, and name it in dns.certificate.authority',
      );
    }
    if (issuers.includes(authority.toLowerCase())) return [];
    return about(
      name,
      'stop',
      'dns-caa-forbids',
      `A CAA record of ${hostOf(at)} allows only ${allowed} to give out certificates, and not ${authority}`,
      `Add a CAA record with issue "${authority}" before the certificate is wanted`,
    );
  });
}

/** The CAA records of the closest name up the tree that has any (RFC 8659, section 3). */
function recordsInForce(
  { facts }: Hazards,
  name: DnsName,
): { readonly records: readonly DnsRecord[]; readonly at: DnsName } {
  const known = [...facts.zones.flatMap(({ zone }) => zone.records), ...facts.caaAbove];
  for (let at = name; at !== rootName; at = parentOf(at)) {
    const key = setKeyOf({ name: at, type: 'CAA' });
    const records = known.filter(record => record.type === 'CAA' && setKeyOf(record) === key);
    if (records.length > 0) return { records, at };
  }
  return { records: [], at: name };
}

/** Whom an `issue` property allows; '' for nobody (RFC 8659, section 4.2). */
function issuerOf({ data }: DnsRecord): string[] {
  const tag = data.toString('latin1', 2, 2 + data[1]!).toLowerCase();
  if (tag !== 'issue') return [];
  const value = textOf(asBytes(data.toString('latin1', 2 + data[1]!)));
  return [value.split(';')[0]!.trim().toLowerCase()];
}
