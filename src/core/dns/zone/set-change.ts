import { type DnsName, parseName } from '../records/name.js';
import { type DnsRecord, recordKeyOf, recordLine, recordOfLine, setKeyOf } from '../records/record.js';
import type { Zone } from './zone.js';

/** What happens to one record set: all its records as they are, and as they are to be; none where it is not there. */
export interface SetChange {
  readonly name: DnsName;
  readonly type: string;
  readonly before: readonly DnsRecord[];
  readonly after: readonly DnsRecord[];
}

/** A change as results and the journal have it: its records as lines of a zone file. */
export interface WrittenChange {
  readonly name: string;
  readonly type: string;
  readonly before: readonly string[];
  readonly after: readonly string[];
}

export function writtenChange({ name, type, before, after }: SetChange): WrittenChange {
  return { name, type, before: before.map(recordLine), after: after.map(recordLine) };
}

/** @throws an Error for what was not written by `writtenChange` */
export function changeOf({ name, type, before, after }: WrittenChange): SetChange {
  return { name: parseName(name), type, before: before.map(recordOfLine), after: after.map(recordOfLine) };
}

/** The changes that take back some changes. */
export function reversed(changes: readonly SetChange[]): SetChange[] {
  return changes
    .map(({ name, type, before, after }) => ({ name, type, before: after, after: before }))
    .reverse();
}

/** Changes that follow one another as one for each set: from what was there at first to what is there in the end. */
export function composed(changes: readonly SetChange[]): SetChange[] {
  const all = new Map<string, SetChange>();
  for (const change of changes) {
    const key = setKeyOf(change);
    all.set(key, { ...change, before: all.get(key)?.before ?? change.before });
  }
  return [...all.values()].filter(({ before, after }) => !sameSet(before, after, { ttl: true }));
}

/** Whether two record sets hold the same data, and with `ttl` the same TTL too. */
export function sameSet(a: readonly DnsRecord[], b: readonly DnsRecord[], { ttl = false } = {}): boolean {
  const keys = (set: readonly DnsRecord[]) =>
    set.map(one => (ttl ? `${one.ttl} ${recordKeyOf(one)}` : recordKeyOf(one))).sort();
  const [mine, others] = [keys(a), keys(b)];
  return mine.length === others.length && mine.every((key, i) => key === others[i]);
}

/** Those changes of which the set is not as it was seen: somebody has changed it meanwhile. */
export function conflictsIn(zone: Zone, changes: readonly SetChange[]): SetChange[] {
  return changes.filter(({ name, type, before }) => !sameSet(zone.set(name, type), before));
}

/**
 * The records of a zone after some changes.
 * @throws an Error where a set is not as the change saw it
 */
export function changedRecords(zone: Zone, changes: readonly SetChange[]): DnsRecord[] {
  const [conflict] = conflictsIn(zone, changes);
  if (conflict) throw new Error(`the ${conflict.type} records of ${conflict.name} are not as they were seen`);
  const touched = new Set(changes.map(setKeyOf));
  return [
    ...zone.records.filter(record => !touched.has(setKeyOf(record))),
    ...changes.flatMap(({ after }) => after),
  ];
}
