import { targetOf } from '../records/data.js';
import { below, type DnsName, isWithin, keyOf, parentOf, rootName, sameName } from '../records/name.js';
import { type DnsRecord, setKeyOf } from '../records/record.js';
import { serialOf } from './serial.js';

/** The records of a zone, with what a server makes of them. */
export class Zone {
  readonly apex: DnsName;
  readonly records: readonly DnsRecord[];
  private readonly sets = new Map<string, DnsRecord[]>();
  /** Names that exist: with records, or above one with records (RFC 4592, section 2.2.2). */
  private readonly names = new Set<DnsName>();

  constructor(apex: DnsName, records: readonly DnsRecord[]) {
    this.apex = apex;
    this.records = records;
    for (const record of records) {
      const key = setKeyOf(record);
      const set = this.sets.get(key);
      if (set) set.push(record);
      else this.sets.set(key, [record]);
      for (let name = keyOf(record.name); !this.names.has(name); name = parentOf(name)) {
        if (!isWithin(name, apex)) break;
        this.names.add(name);
        if (name === rootName) break;
      }
    }
  }

  /** The records of a name and type as the zone has them; none where there are none. */
  set(name: DnsName, type: string): readonly DnsRecord[] {
    return this.sets.get(setKeyOf({ name, type })) ?? [];
  }

  /** Whether a name is in the zone, with records of its own or of names below it. */
  has(name: DnsName): boolean {
    return this.names.has(keyOf(name));
  }

  get soa(): DnsRecord | undefined {
    return this.set(this.apex, 'SOA')[0];
  }

  get serial(): number | undefined {
    return this.soa && serialOf(this.soa.data);
  }

  /** The name servers of another zone, where a name lies in one that was given away; undefined where it does not. */
  delegationAbove(
    name: DnsName,
  ): { readonly at: DnsName; readonly servers: readonly DnsRecord[] } | undefined {
    const found: DnsName[] = [];
    for (let at = name; isWithin(at, this.apex) && !sameName(at, this.apex); at = parentOf(at))
      if (this.set(at, 'NS').length > 0) found.push(at);
    const at = found.at(-1);
    return at && { at, servers: this.set(at, 'NS') };
  }

  /** The wildcard that answers for a name that is not there itself (RFC 4592, section 3.3.1). */
  wildcardFor(name: DnsName): DnsName | undefined {
    if (this.has(name)) return undefined;
    let closest = parentOf(name);
    while (isWithin(closest, this.apex) && !this.has(closest)) closest = parentOf(closest);
    const wildcard = below('*', closest);
    return this.has(wildcard) ? wildcard : undefined;
  }

  /** What a server answers for a name and type: records of the name or of its wildcard, or the CNAME there. */
  answer(name: DnsName, type: string): readonly DnsRecord[] {
    const at = this.wildcardFor(name) ?? name;
    const own = this.set(at, type);
    return own.length > 0 ? own : this.set(at, 'CNAME');
  }

  /** The addresses to which a name leads within the zone, and the names that it leads over. */
  addressesOf(name: DnsName): { readonly records: readonly DnsRecord[]; readonly over: readonly DnsName[] } {
    const over: DnsName[] = [];
    let at = name;
    while (over.length < mostAliases) {
      const [alias] = this.answer(at, 'CNAME');
      if (alias?.type !== 'CNAME') break;
      over.push(at);
      at = targetOf('CNAME', alias.data)!;
    }
    const records = ['A', 'AAAA'].flatMap(type => this.answer(at, type).filter(one => one.type === type));
    return { records, over: over.length > 0 ? [...over, at] : [] };
  }
}

const mostAliases = 10;
