import { type Finding, type FindingCode, finding, type LevelOf } from '../../../findings/findings.js';
import { targetOf } from '../../records/data.js';
import { addressToText } from '../../records/ip.js';
import { type DnsName, hostOf, keyOf } from '../../records/name.js';
import { type DnsRecord, setKeyOf } from '../../records/record.js';
import type { CutoverFacts, PlannedName, ZoneChanges } from '../facts.js';
import { zoneOf } from '../names.js';

/** A plan, with what a hazard needs to know of it. */
export class Hazards {
  readonly facts: CutoverFacts;
  readonly names: readonly PlannedName[];
  readonly changes: readonly ZoneChanges[];
  /** The addresses of the old host, as text. */
  readonly old: ReadonlySet<string>;
  /** Those of the new one. */
  readonly new: ReadonlySet<string>;

  constructor(facts: CutoverFacts, names: readonly PlannedName[], changes: readonly ZoneChanges[]) {
    this.facts = facts;
    this.names = names;
    this.changes = changes;
    this.old = new Set(facts.old);
    this.new = new Set(facts.new.flatMap(one => ('address' in one ? [one.address] : one.addresses)));
  }

  /** Whether the records of a name change. */
  moves(name: DnsName): boolean {
    return this.names.some(
      one => keyOf(one.name) === keyOf(name) && (one.fate === 'moves' || one.fate === 'follows another name'),
    );
  }

  /** The records of a name and type, in the zones or outside of them. */
  records(name: DnsName, type: string): readonly DnsRecord[] {
    const view = zoneOf(this.facts.zones, name);
    if (view && !view.zone.delegationAbove(name)) return view.zone.answer(name, type);
    return this.facts.outside.get(setKeyOf({ name, type })) ?? [];
  }

  /** The addresses that a name leads to, over aliases too, and the names on the way. */
  addresses(name: DnsName): { readonly texts: readonly string[]; readonly over: readonly DnsName[] } {
    const over = [name];
    for (let at = name; over.length < 10; ) {
      const alias = this.records(at, 'CNAME').find(({ type }) => type === 'CNAME');
      if (!alias) break;
      at = targetOf('CNAME', alias.data)!;
      over.push(at);
    }
    const end = over.at(-1)!;
    const records = ['A', 'AAAA'].flatMap(type => this.records(end, type).filter(one => one.type === type));
    return { texts: records.map(({ data }) => addressToText(data)), over };
  }

  /** How a name is bound to the old host: it moves with the site, it leads there by its address, or it is not. */
  bond(name: DnsName): 'moves' | 'old host' | undefined {
    const { texts, over } = this.addresses(name);
    if (over.some(one => this.moves(one))) return 'moves';
    return texts.some(text => this.old.has(text)) ? 'old host' : undefined;
  }
}

/** Makes a finding about a name. */
export function about<Code extends FindingCode>(
  name: DnsName,
  level: LevelOf<Code>,
  code: Code,
  what: string,
  remedy: string,
): Finding {
  return finding({ level, code, place: hostOf(name), what, remedy });
}
