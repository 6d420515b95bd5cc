import { duration } from '../../text/duration.js';
import { hostOf } from '../records/name.js';
import { negativeTtlOf, refreshOf } from '../zone/serial.js';
import type { CutoverFacts, PlannedName, ZoneChanges, ZoneView } from './facts.js';

/** One thing on the timeline. */
export interface TimelineEntry {
  /** Milliseconds since 1970; undefined where it is done as soon as possible. */
  readonly at: number | undefined;
  readonly what: string;
  readonly why: string;
  /** The command that does it. */
  readonly command?: string;
}

const minute = 60_000;
const day = 86_400_000;
/** The least time for the last pass, whatever those before it took. */
const shortestPass = 10 * minute;
/** Resolvers that keep records longer than the TTL, and browsers that stay open. */
const stragglers = day;
/** How long nothing must go wrong before TTLs are raised. */
const quiet = 2 * day;
/** How long the old host is kept after the last visitor has left it. */
const reserve = 7 * day;
/** How long old names are needed: links and search engines use them that long. */
const yearOfRedirects = 365 * day;

/** The longest time for which somebody may keep what a zone answers now, in milliseconds. */
function longestKept({ view, prepare, switch: changes }: ZoneChanges): number {
  const own = [...prepare, ...changes].flatMap(({ before }) => before.map(({ ttl }) => ttl));
  const seen = view.servers.flatMap(({ longestTtl }) => longestTtl ?? []);
  return Math.max(0, ...own, ...seen) * 1000;
}

/** The longest time until every secondary has a change, where it is not notified, in milliseconds. */
function slowestCopy({ zone, servers }: ZoneView): number {
  if (!zone.soa || servers.length < 2) return 0;
  return refreshOf(zone.soa.data).refresh * 1000;
}

/** By when TTLs must be short, for each zone whose names move. */
export function latestPrepare(facts: CutoverFacts, changes: readonly ZoneChanges[]): number | undefined {
  const times = changes
    .filter(({ prepare }) => prepare.some(({ before }) => before.length > 0))
    .map(one => facts.when - longestKept(one) - slowestCopy(one.view));
  return times.length > 0 ? Math.min(...times) : undefined;
}

/** How long the freeze lasts until the switch, in milliseconds. */
function freezeTime({ lastPass }: CutoverFacts): number {
  return Math.max(shortestPass, Math.ceil((lastPass * 2) / minute) * minute);
}

/** The timeline of a cutover, in the order of time. */
export function timelineOf(
  facts: CutoverFacts,
  names: readonly PlannedName[],
  changes: readonly ZoneChanges[],
): TimelineEntry[] {
  const { when, shortTtl } = facts;
  const moving = names.filter(({ fate }) => fate === 'moves' || fate === 'follows another name');
  const isNewName = names.some(({ as }) => as === 'new address');
  const raises = changes.some(({ raise }) => raise.length > 0);
  const longest = Math.max(shortTtl * 1000, ...changes.map(longestKept));
  const entries: (TimelineEntry | false)[] = [
    ...createdEntries(names),
    ...delegationEntries(facts),
    facts.isSecure && certificateEntry(facts, names),
    ...prepareEntries(facts, changes),
    {
      at: when - freezeTime(facts),
      what: 'Freeze the old site: nobody can write to it any more',
      why: 'what is written there after the last pass would be lost',
      command: 'able-porter cutover freeze',
    },
    {
      at: when - freezeTime(facts),
      what: 'Carry the last changes over, and check the new site',
      why: `the passes before took ${duration(Math.max(1, Math.round(facts.lastPass / 1000)))}`,
      command: 'able-porter go',
    },
    moving.length > 0 && {
      at: when,
      what: `Switch the records of ${moving.map(({ name }) => hostOf(name)).join(', ')}`,
      why: 'from here on visitors come to the new host',
      command: 'able-porter cutover switch',
    },
    isNewName && {
      at: when,
      what: `Put the redirects in place at ${hostOf(facts.hosts.old)}`,
      why: 'from here on visitors of the old name come to the new one',
      command: 'able-porter cutover switch',
    },
    ...(moving.length > 0 ? followEntries(when, shortTtl) : []),
    raises && {
      at: when + quiet,
      what: 'Raise the TTLs again',
      why: 'a short TTL costs every visitor a look-up',
      command: 'able-porter cutover raise',
    },
    {
      at: when + longest + stragglers + reserve,
      what: isNewName ? 'Earliest end of the old site behind the redirects' : 'Earliest end of the old host',
      why: 'nobody is led there any more, and a week is left to go back',
    },
    isNewName && {
      at: when + yearOfRedirects,
      what: `Earliest end of ${hostOf(facts.hosts.old)} and its redirects`,
      why: 'links and search engines use the old name for a year at least',
    },
  ];
  return entries.filter(one => one !== false).sort((a, b) => (a.at ?? 0) - (b.at ?? 0));
}

/** The certificate is wanted before visitors come: a day is left for what goes wrong. */
function certificateEntry({ when, proof }: CutoverFacts, names: readonly PlannedName[]): TimelineEntry {
  const hosts = names.filter(({ fate }) => fate !== 'stays' && fate !== 'is not in a zone that was read');
  const ways = {
    dns: 'it is proved by a record in the zone',
    http: 'it is proved by a file at the host to which the name leads now',
    none: 'ask the new host for it; it can be proved by a record in the zone (DNS-01), or by a file at the old host (HTTP-01)',
  };
  return {
    at: when - day,
    what: `Have the certificate at the new host, for ${hosts.map(({ name }) => hostOf(name)).join(', ')}`,
    why: ways[proof ?? 'none'],
    ...(proof ? { command: 'able-porter cutover prepare --certificate' } : {}),
  };
}

/** Where the zone moves to other name servers too: both must answer the same until nobody keeps the delegation. */
function delegationEntries({ movedTo, zones, when }: CutoverFacts): TimelineEntry[] {
  if (movedTo.length === 0) return [];
  const kept = Math.max(day / 1000, ...zones.map(({ parent }) => parent?.ttl ?? 0));
  return [
    {
      at: when - kept * 1000,
      what: 'Let the registrar name the new name servers, at the latest; or do it after the switch, when all is quiet',
      why: `resolvers keep the delegation for ${duration(kept)}: until then change every record at both`,
    },
  ];
}

function createdEntries(names: readonly PlannedName[]): TimelineEntry[] {
  const created = names.filter(({ fate }) => fate === 'is created');
  if (created.length === 0) return [];
  const negative = Math.max(
    ...created.map(({ view }) => (view?.zone.soa ? negativeTtlOf(view.zone.soa.data) : 0)),
  );
  return [
    {
      at: undefined,
      what: `Create the records of ${created.map(({ name }) => hostOf(name)).join(', ')}`,
      why: `nobody is led there yet; whoever asks too early keeps for ${duration(negative)} that there is none`,
      command: 'able-porter cutover prepare',
    },
  ];
}

function prepareEntries(facts: CutoverFacts, changes: readonly ZoneChanges[]): TimelineEntry[] {
  const latest = latestPrepare(facts, changes);
  if (latest === undefined) return [];
  const longest = Math.max(...changes.map(longestKept));
  const copies = Math.max(...changes.map(({ view }) => slowestCopy(view)));
  const lag = copies > 0 ? `, and secondaries may be ${duration(copies / 1000)} behind` : '';
  return [
    {
      at: latest,
      what: `Lower the TTLs to ${duration(facts.shortTtl)}, at the latest`,
      why: `resolvers keep the present records for ${duration(longest / 1000)}${lag}`,
      command: 'able-porter cutover prepare',
    },
  ];
}

/** When which share of resolvers will have followed: those that asked at any moment before, evenly. */
function followEntries(when: number, shortTtl: number): TimelineEntry[] {
  const share = (part: number): TimelineEntry => ({
    at: when + shortTtl * part * 1000,
    what: `About ${part * 100} % of the resolvers have followed`,
    why: 'they ask again when what they keep runs out',
  });
  return [
    share(0.5),
    share(0.9),
    {
      at: when + shortTtl * 1000,
      what: 'All resolvers have followed that keep to the TTL',
      why: 'then the old site may be thawed',
      command: 'able-porter cutover watch',
    },
    {
      at: when + shortTtl * 1000 + stragglers,
      what: 'Resolvers that keep records longer have followed too',
      why: 'some keep them for up to a day, whatever the TTL says',
    },
  ];
}
