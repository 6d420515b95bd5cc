import { type DnsName, keyOf } from '../records/name.js';
import type { DnsRecord } from '../records/record.js';
import type { SetChange } from '../zone/set-change.js';
import { dnsClass, type Message, type MessageRecord, noFlags, opcode } from './message.js';

const nothing = { ttl: 0, data: Buffer.alloc(0) };

/**
 * A dynamic update (RFC 2136) that does some changes together, and only while every record set is as it was seen:
 * where it was there, it must have exactly these records (section 2.4.2), otherwise none of its type (section 2.4.3).
 * The server raises the serial itself (section 3.6).
 */
export function updateMessage(id: number, zone: DnsName, changes: readonly SetChange[]): Message {
  return {
    id,
    flags: { ...noFlags, opcode: opcode.update },
    questions: [{ name: zone, type: 'SOA', class: dnsClass.IN }],
    answers: [...changes.flatMap(prerequisitesOf), ...withoutAliases(changes)],
    authorities: changes.flatMap(operationsOf),
    additionals: [],
  };
}

function prerequisitesOf({ name, type, before }: SetChange): MessageRecord[] {
  if (before.length === 0) return [{ name, type, class: dnsClass.NONE, ...nothing }];
  return before.map(record => ({ ...asRecord(record), class: dnsClass.IN, ttl: 0 }));
}

/** Beside an alias a server ignores what is added, without a word (section 3.4.2.2). */
function withoutAliases(changes: readonly SetChange[]): MessageRecord[] {
  const aliased = new Set(changes.filter(({ type }) => type === 'CNAME').map(({ name }) => keyOf(name)));
  const added = changes.filter(({ before, after }) => before.length === 0 && after.length > 0);
  const names = new Map(added.map(({ name }) => [keyOf(name), name]));
  return [...names]
    .filter(([key]) => !aliased.has(key))
    .map(([, name]) => ({ name, type: 'CNAME', class: dnsClass.NONE, ...nothing }));
}

/** The whole set goes, and what is to be there comes: so that all its records get the same TTL. */
function operationsOf({ name, type, before, after }: SetChange): MessageRecord[] {
  const gone = before.length > 0 ? [{ name, type, class: dnsClass.ANY, ...nothing }] : [];
  return [...gone, ...after.map(record => ({ ...asRecord(record), class: dnsClass.IN }))];
}

function asRecord({ name, type, ttl, data }: DnsRecord): DnsRecord {
  return { name, type, ttl, data };
}
