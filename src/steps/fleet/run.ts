import { randomUUID } from 'node:crypto';
import { mkdir } from 'node:fs/promises';
import { dirname } from 'node:path';
import { onlyLooks } from '../../core/fleet/commands.js';
import { byTrouble, countSites, type FleetCount, type SiteProgress } from '../../core/fleet/outcome.js';
import { MoveLock } from '../../ends/move-folder/lock.js';
import { whileDoing } from '../../ends/system-errors.js';
import { type Fleet, type FleetSite, sitesNamed } from './fleet.js';
import { FleetRecord, fleetFile } from './record.js';
import type { FleetRunner, Observe } from './runner.js';

/** A command that is run on the sites of a fleet. */
export interface FleetWork {
  /** With its options, without the sheet's. */
  readonly command: readonly string[];
  /** Also on sites on which an earlier run has done it. */
  readonly again: boolean;
  /** A command that only looks is not run anew once all sites have seen it; otherwise the next run looks anew then. */
  readonly looksOnce?: boolean;
  /** Names; left out, all. */
  readonly only?: readonly string[] | undefined;
  /** Gives who works. @param run by which several machines know what belongs together */
  readonly runner: (run: string) => FleetRunner;
  readonly observe: Observe;
  readonly signal: AbortSignal;
}

export interface FleetOutcome {
  readonly fleet: string;
  readonly command: string;
  /** The worst first. */
  readonly sites: readonly SiteProgress[];
  readonly count: FleetCount;
  readonly seconds: number;
}

/**
 * Runs a command on the sites of a fleet. What an earlier run has done with the same sheets is not done again; what was
 * interrupted, or went wrong, is tried again.
 */
export async function runFleet(fleet: Fleet, work: FleetWork): Promise<FleetOutcome> {
  const began = performance.now();
  const command = work.command.join(' ');
  const folder = dirname(fleetFile(fleet, 'lock'));
  await whileDoing(`Making ${folder}`, () => mkdir(folder, { recursive: true, mode: 0o700 }));
  const lock = await MoveLock.take(fleetFile(fleet, 'lock'), 'this fleet');
  try {
    const sites = work.only ? sitesNamed(fleet, work.only) : fleet.sites;
    const record = await recordFor(fleet, sites, command, work);
    const seen = new Map<string, SiteProgress>();
    const jobs = new Map<string, FleetSite>();
    const take: Observe = progress => {
      seen.set(progress.site, progress);
      const site = jobs.get(progress.site);
      if (progress.outcome && site) record.note(site, progress.outcome);
      work.observe(progress);
    };
    for (const site of sites) {
      const outcome = await record.outcomeOf(site);
      if (outcome?.state === 'done') take({ site: site.name, state: 'done before', outcome });
      else jobs.set(site.name, site);
    }
    const asked = [...jobs.values()].map(site => ({ ...site, command: work.command }));
    await work.runner(randomUUID()).run(asked, take, work.signal);
    await record.settle();
    const all = [...seen.values()].sort(byTrouble);
    const seconds = (performance.now() - began) / 1000;
    return { fleet: fleet.name, command, sites: all, count: countSites(all), seconds };
  } finally {
    await lock.release();
  }
}

async function recordFor(
  fleet: Fleet,
  sites: readonly FleetSite[],
  command: string,
  { again, looksOnce = false }: Pick<FleetWork, 'again' | 'looksOnce'>,
): Promise<FleetRecord> {
  const record = await FleetRecord.open(fleet, command);
  const outcomes = await Promise.all(sites.map(site => record.outcomeOf(site)));
  const isWhole = outcomes.every(outcome => outcome?.state === 'done');
  if (again || (isWhole && !looksOnce && onlyLooks(command))) record.forget(sites);
  return record;
}
