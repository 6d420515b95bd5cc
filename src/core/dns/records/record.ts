import { dataFromText, dataToText } from './data.js';
import { type DnsName, hostOf, keyOf, parseName } from './name.js';
import { isOfNames } from './types.js';

/** A record of a zone, of the class IN. */
export interface DnsRecord {
  readonly name: DnsName;
  /** A word such as `MX`, or `TYPE65280`. */
  readonly type: string;
  /** Seconds. */
  readonly ttl: number;
  /** As on the wire, with names in full. */
  readonly data: Buffer;
}

/** A record set's name and type; records of one set share it. */
export function setKeyOf({ name, type }: Pick<DnsRecord, 'name' | 'type'>): string {
  return `${keyOf(name)} ${type}`;
}

/** What makes two records the same one, whatever their TTL: names in data are equal in any letter case. */
export function recordKeyOf(record: Pick<DnsRecord, 'name' | 'type' | 'data'>): string {
  return `${setKeyOf(record)} ${canonicalData(record)}`;
}

function canonicalData({ type, data }: Pick<DnsRecord, 'type' | 'data'>): string {
  const named = isOfNames(type);
  return named ? dataToText(type, data).toLowerCase() : data.toString('latin1');
}

/** A record as results and people have it: the name as a host, the data as a zone file writes it. */
export interface ShownRecord {
  readonly name: string;
  readonly type: string;
  /** Seconds. */
  readonly ttl: number;
  readonly value: string;
}

export function shownRecord({ name, type, ttl, data }: DnsRecord): ShownRecord {
  return { name: hostOf(name), type, ttl, value: dataToText(type, data) };
}

/** A record from the line that `recordLine` writes. @throws an Error for another line */
export function recordOfLine(line: string): DnsRecord {
  const [, name, ttl, type, data] = /^(\S+) (\d+) IN (\S+) ?(.*)$/s.exec(line) ?? [];
  if (data === undefined) throw new Error(`${JSON.stringify(line)} is no record`);
  return { name: parseName(name!), type: type!, ttl: Number(ttl), data: dataFromText(type!, data) };
}

/** A record as one line of a zone file. */
export function recordLine(record: DnsRecord): string {
  return `${record.name} ${record.ttl} IN ${record.type} ${dataToText(record.type, record.data)}`;
}
