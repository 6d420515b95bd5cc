import { getDomain } from 'tldts';
import { targetOf } from '../records/data.js';
import { ipAddress } from '../records/ip.js';
import { type DnsName, hostOf, isWithin, keyOf, nameOfHost, nameToWire, sameName } from '../records/name.js';
import type { DnsRecord } from '../records/record.js';
import { type SetChange, sameSet } from '../zone/set-change.js';
import type { CutoverFacts, NameFate, PlannedName, ZoneChanges, ZoneView } from './facts.js';

/** The types that lead visitors somewhere. */
const leadingTypes = ['A', 'AAAA', 'CNAME'] as const;
/** For how long records are kept where nothing was there before, in seconds. */
const usualTtl = 3600;

/** The same name with or without `www.`; undefined of a name that is neither a domain of its own nor its `www`. */
export function webTwinOf(name: DnsName): DnsName | undefined {
  const host = hostOf(name);
  if (host.startsWith('www.')) return nameOfHost(host.slice(4));
  return getDomain(host) === host || getDomain(host) === null ? nameOfHost(`www.${host}`) : undefined;
}

/** The zone that a name is in: the one whose name is the longest. */
export function zoneOf(zones: readonly ZoneView[], name: DnsName): ZoneView | undefined {
  const within = zones.filter(({ zone }) => isWithin(name, zone.apex));
  return within.sort((a, b) => b.zone.apex.length - a.zone.apex.length)[0];
}

/** Address records of a name, as the plan wants them. */
function targetRecords(facts: CutoverFacts, name: DnsName, type: string, ttl: number): DnsRecord[] {
  const addresses = facts.new.flatMap(target => ('address' in target ? [target.address] : target.addresses));
  return addresses.flatMap(text => {
    const ip = ipAddress(text);
    const of = ip?.version === 6 ? 'AAAA' : 'A';
    return ip && of === type ? [{ name, type, ttl, data: ip.data }] : [];
  });
}

/** The alias that a name may be where the new server is a host: not at the apex, and not beside other records. */
function aliasFor(facts: CutoverFacts, { zone }: ZoneView, name: DnsName): DnsName | undefined {
  const [only] = facts.new;
  if (facts.new.length !== 1 || !only || !('host' in only) || sameName(name, zone.apex)) return undefined;
  const others = zone.records.some(
    record => sameName(record.name, name) && !(leadingTypes as readonly string[]).includes(record.type),
  );
  return others ? undefined : only.host;
}

/** The names of the site, what answers for each now, and what is to become of it. */
export function planNames(facts: CutoverFacts): PlannedName[] {
  const { hosts } = facts;
  const isSame = sameName(hosts.old, hosts.new);
  const planned = new Map<DnsName, PlannedName>();
  const add = (name: DnsName, as: PlannedName['as'], moves: boolean) => {
    if (!planned.has(keyOf(name))) planned.set(keyOf(name), planName(facts, name, as, moves));
  };
  add(hosts.new, isSame ? 'site' : 'new address', true);
  for (const name of facts.names) add(name, 'listed', true);
  const twin = webTwinOf(hosts.new);
  if (twin && isServed(facts, twin)) add(twin, 'twin', true);
  if (!isSame) {
    // The old names go on sending visitors to the new ones.
    add(hosts.old, 'old address', false);
    const oldTwin = webTwinOf(hosts.old);
    if (oldTwin && isServed(facts, oldTwin)) add(oldTwin, 'twin', false);
  }
  return withFollowers([...planned.values()]);
}

/** Whether a name leads anywhere now. */
function isServed(facts: CutoverFacts, name: DnsName): boolean {
  const view = zoneOf(facts.zones, name);
  return view !== undefined && leadingTypes.some(type => view.zone.answer(name, type).length > 0);
}

function planName(facts: CutoverFacts, name: DnsName, as: PlannedName['as'], moves: boolean): PlannedName {
  const view = zoneOf(facts.zones, name);
  const none = { name, as, view, changes: [] as readonly SetChange[] };
  if (!view || view.zone.delegationAbove(name))
    return { ...none, present: [], fate: moves ? 'is not in a zone that was read' : 'stays' };
  const { zone } = view;
  const present = [...new Set(leadingTypes.flatMap(type => zone.answer(name, type)))];
  if (!moves) return { ...none, present, fate: 'stays' };
  const changes = changesOf(facts, view, name);
  const fate: NameFate =
    changes.length === 0 ? 'leads there already' : present.length === 0 ? 'is created' : 'moves';
  return { name, as, view, present, changes, fate };
}

/** The record sets of a name that change, from what is there to what is wanted. */
function changesOf(facts: CutoverFacts, view: ZoneView, name: DnsName): SetChange[] {
  const { zone } = view;
  const alias = aliasFor(facts, view, name);
  return leadingTypes.flatMap(type => {
    const before = zone.set(name, type);
    const wanted =
      type === 'CNAME'
        ? alias
          ? [{ name, type, ttl: facts.shortTtl, data: nameToWire(alias) }]
          : []
        : alias
          ? []
          : targetRecords(facts, name, type, facts.shortTtl);
    return sameSet(before, wanted) ? [] : [{ name, type, before, after: wanted }];
  });
}

/** An alias of a name that moves follows it, and stays an alias. */
function withFollowers(names: readonly PlannedName[]): PlannedName[] {
  const moving = new Set(
    names
      .filter(({ fate }) => fate === 'moves' || fate === 'leads there already')
      .map(({ name }) => keyOf(name)),
  );
  return names.map(one => {
    const [alias] = one.present;
    if (one.fate !== 'moves' || alias?.type !== 'CNAME' || !sameName(alias.name, one.name)) return one;
    const target = targetOf('CNAME', alias.data)!;
    if (sameName(target, one.name) || !moving.has(keyOf(target))) return one;
    return { ...one, fate: 'follows another name', changes: [] };
  });
}

/** The changes of each zone in their phases. */
export function changesByZone(facts: CutoverFacts, names: readonly PlannedName[]): ZoneChanges[] {
  return facts.zones.flatMap(view => {
    const own = names.filter(one => one.view === view && one.changes.length > 0);
    const all = own.flatMap(({ changes }) => changes);
    const created = own.filter(({ fate }) => fate === 'is created').flatMap(({ changes }) => changes);
    const moved = all.filter(change => !created.includes(change));
    const following = names.filter(one => one.view === view && one.fate === 'follows another name');
    const shortened = [
      ...moved.filter(({ before }) => before.length > 0).map(change => withTtl(change, facts.shortTtl)),
      ...following.flatMap(({ present }) => shortAlias(present, facts.shortTtl)),
    ].filter(({ before, after }) => !sameSet(before, after, { ttl: true }));
    const prepare = [...shortened, ...created];
    const known = (one: SetChange) =>
      moved.find(({ name, type }) => sameName(name, one.name) && type === one.type);
    const changes = {
      view,
      prepare,
      switch: moved.map(change => ({
        ...change,
        before: change.before.map(record => short(record, facts.shortTtl)),
      })),
      raise: [
        ...all
          .filter(({ after }) => after.length > 0)
          .map(change => raised(change.after, ttlFor(own, change))),
        ...shortened
          .filter(one => !known(one))
          .map(({ name, type, before, after }) => ({ name, type, before: after, after: before })),
      ],
    };
    return changes.prepare.length + changes.switch.length > 0 ? [changes] : [];
  });
}

function shortAlias([alias]: readonly DnsRecord[], ttl: number): SetChange[] {
  if (alias?.type !== 'CNAME') return [];
  return [withTtl({ name: alias.name, type: 'CNAME', before: [alias], after: [alias] }, ttl)];
}

function short(record: DnsRecord, ttl: number): DnsRecord {
  return record.ttl > ttl ? { ...record, ttl } : record;
}

/** The set as it is, with a TTL that is no longer than wished. */
function withTtl({ name, type, before }: SetChange, ttl: number): SetChange {
  return { name, type, before, after: before.map(record => short(record, ttl)) };
}

/** The TTL that a name had before, of whatever kind its records were. */
function ttlFor(names: readonly PlannedName[], change: SetChange): number {
  const own = names.find(({ name }) => sameName(name, change.name));
  return Math.max(0, ...(own?.present ?? []).map(({ ttl }) => ttl)) || usualTtl;
}

function raised(after: readonly DnsRecord[], ttl: number): SetChange {
  const { name, type } = after[0]!;
  return { name, type, before: after, after: after.map(record => ({ ...record, ttl })) };
}
