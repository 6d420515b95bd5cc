import type { WrittenChange } from '../dns/zone/set-change.js';

/** What the plan of one site changes in a zone at the switch. */
export interface SiteZoneChanges {
  readonly site: string;
  readonly zone: string;
  readonly changes: readonly WrittenChange[];
}

/** A zone with all that the sites of a fleet change in it. */
export interface FleetZone {
  readonly zone: string;
  readonly sites: readonly string[];
  readonly changes: readonly (WrittenChange & { readonly sites: readonly string[] })[];
  /** Names that several sites lead to different places: only one of them can have its way. */
  readonly conflicts: readonly {
    readonly name: string;
    readonly type: string;
    readonly sites: readonly string[];
  }[];
}

/** One plan of those of all sites, by zone. */
export function zonesOfFleet(all: readonly SiteZoneChanges[]): FleetZone[] {
  const zones = new Map<string, SiteZoneChanges[]>();
  for (const one of all) zones.set(one.zone, [...(zones.get(one.zone) ?? []), one]);
  return [...zones].sort(([a], [b]) => (a < b ? -1 : 1)).map(([zone, parts]) => zoneOf(zone, parts));
}

function zoneOf(zone: string, parts: readonly SiteZoneChanges[]): FleetZone {
  const sets = new Map<string, Map<string, { change: WrittenChange; sites: string[] }>>();
  for (const { site, changes } of parts) {
    for (const change of changes) {
      const key = `${change.name} ${change.type}`.toLowerCase();
      const ways = sets.get(key) ?? new Map<string, { change: WrittenChange; sites: string[] }>();
      const way = [...change.after].sort().join('\n');
      const known = ways.get(way) ?? { change, sites: [] };
      known.sites.push(site);
      sets.set(key, ways.set(way, known));
    }
  }
  const ways = [...sets.values()].map(one => [...one.values()]);
  return {
    zone,
    sites: [...new Set(parts.map(({ site }) => site))],
    changes: ways.flat().map(({ change, sites }) => ({ ...change, sites })),
    conflicts: ways
      .filter(one => one.length > 1)
      .map(one => ({
        name: one[0]!.change.name,
        type: one[0]!.change.type,
        sites: one.flatMap(({ sites }) => sites),
      })),
  };
}
