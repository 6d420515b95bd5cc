import type { SiteProgress } from '../../core/fleet/outcome.js';
import { type FleetZone, type SiteZoneChanges, zonesOfFleet } from '../../core/fleet/zones.js';
import { MoveFolder } from '../../ends/move-folder/move-folder.js';
import type { CutoverResult } from '../cutover.js';
import { readResult } from '../move/step.js';
import type { Fleet } from './fleet.js';
import { type FleetWork, runFleet } from './run.js';

/** A part of the sites that is switched at once. */
export interface Wave {
  /** From 1. */
  readonly number: number;
  readonly sites: readonly string[];
  /** `not begun`: an earlier wave did not come up. */
  readonly state: 'up' | 'not up' | 'not begun';
  /** What went wrong, the worst first. */
  readonly trouble: readonly SiteProgress[];
}

/** How waves are switched. */
export interface WaveWish {
  /** Of the command that switches each site. */
  readonly options: readonly string[];
  readonly of: number;
  /** Seconds after which a wave is taken for one that does not come up. */
  readonly watchFor: number;
  /** Seconds between two looks. */
  readonly every: number;
  /** Gets what begins. */
  readonly began: (what: string) => void;
}

/**
 * Switches the DNS of a fleet in waves. Each is watched until everybody is led to the new host; the first that does not come up
 * ends it. Waves that an earlier run has switched and seen up are not touched.
 */
export async function switchInWaves(
  fleet: Fleet,
  work: Omit<FleetWork, 'command' | 'again'>,
  { options, of, watchFor, every, began }: WaveWish,
): Promise<Wave[]> {
  const names = fleet.sites.map(({ name }) => name).filter(name => !work.only || work.only.includes(name));
  const parts = Array.from({ length: Math.ceil(names.length / of) }, (_, i) =>
    names.slice(i * of, (i + 1) * of),
  );
  const waves: Wave[] = [];
  const watching = ['cutover', 'watch', '--limit', String(watchFor), '--every', String(every)];
  for (const [i, sites] of parts.entries()) {
    const number = i + 1;
    if (work.signal.aborted || waves.some(({ state }) => state !== 'up')) {
      waves.push({ number, sites, state: 'not begun', trouble: [] });
      continue;
    }
    const trouble: SiteProgress[] = [];
    for (const command of [['cutover', 'switch', ...options], watching]) {
      if (trouble.length > 0) break;
      began(
        `Wave ${number} of ${parts.length}: ${command[1] === 'switch' ? 'switching' : 'watching'} ${sites.join(', ')}`,
      );
      const { sites: ended } = await runFleet(fleet, {
        ...work,
        only: sites,
        command,
        again: false,
        looksOnce: true,
      });
      trouble.push(...ended.filter(({ outcome }) => outcome?.state !== 'done'));
    }
    waves.push({ number, sites, state: trouble.length > 0 ? 'not up' : 'up', trouble });
  }
  return waves;
}

/** One plan over all zones, of the plans that the sites' moves have made. Sites without one are named. */
export async function fleetPlan(
  fleet: Fleet,
): Promise<{ readonly zones: readonly FleetZone[]; readonly without: readonly string[] }> {
  const all: SiteZoneChanges[] = [];
  const without: string[] = [];
  for (const { name, sheet } of fleet.sites) {
    const kept = await readResult<CutoverResult | undefined>(new MoveFolder(sheet), 'cutover').catch(
      () => undefined,
    );
    const switched = kept?.result?.changes.filter(({ phase }) => phase === 'switch') ?? [];
    if (switched.length === 0) without.push(name);
    all.push(...switched.map(({ zone, changes }) => ({ site: name, zone, changes })));
  }
  return { zones: zonesOfFleet(all), without };
}
