import { sameName } from '../records/name.js';
import { type DnsRecord, setKeyOf } from '../records/record.js';
import { isOfSigning } from '../records/types.js';
import { sameSet } from '../zone/set-change.js';
import type { Zone } from '../zone/zone.js';

/** How a record set differs between the present name servers and the new ones. */
export interface SetDifference {
  readonly kind: 'missing' | 'different' | 'other TTL' | 'only there';
  readonly here: readonly DnsRecord[];
  readonly there: readonly DnsRecord[];
}

/**
 * Compares a zone with the one at the name servers to which it moves, record set by record set. What belongs to the
 * servers themselves (SOA, NS of the apex) and to signing is left out.
 */
export function compareZones(here: Zone, there: Zone): SetDifference[] {
  const isCompared = (zone: Zone) => (record: DnsRecord) =>
    !isOfSigning(record.type) &&
    !(sameName(record.name, zone.apex) && (record.type === 'SOA' || record.type === 'NS'));
  const all = [...here.records.filter(isCompared(here)), ...there.records.filter(isCompared(there))];
  const sets = new Map(all.map(record => [setKeyOf(record), record]));
  return [...sets.values()].flatMap(({ name, type }): SetDifference[] => {
    const [mine, others] = [here.set(name, type), there.set(name, type)];
    const difference = (kind: SetDifference['kind']) => [{ kind, here: mine, there: others }];
    if (others.length === 0) return difference('missing');
    if (mine.length === 0) return difference('only there');
    if (!sameSet(mine, others)) return difference('different');
    return sameSet(mine, others, { ttl: true }) ? [] : difference('other TTL');
  });
}
