import { rename } from 'node:fs/promises';
import { join } from 'node:path';
import { childRunner } from '../fleet/child.js';
import { type Fleet, openFleet } from '../fleet/fleet.js';
import { OnThisMachine } from '../fleet/on-this-machine.js';
import { type FleetOutcome, runFleet } from '../fleet/run.js';
import type { Observe } from '../fleet/runner.js';
import { fleetPlan, switchInWaves, type Wave } from '../fleet/waves.js';
import { FleetHosts } from './fleet-hosts.js';
import { demoFolder } from './folder.js';

/** The club whose configuration is missing at first. */
const broken = 'pike-pool';

export interface FleetDemoOutcome {
  readonly folder: string;
  readonly kept: boolean;
  /** The first run of all, in which a club stops, and the second, once that is put right. */
  readonly first: FleetOutcome;
  readonly second: FleetOutcome;
  readonly plan: Awaited<ReturnType<typeof fleetPlan>>;
  readonly waves: readonly Wave[];
}

export interface FleetDemoWish {
  readonly keep: string | undefined;
  /** The file that is the program. */
  readonly program: string;
  readonly environment: Readonly<Record<string, string | undefined>>;
  /** Gets what begins; gives who observes it. */
  readonly began: (what: string, fleet: Fleet) => Promise<Observe>;
  /** Shows a message. */
  readonly say: (text: string) => void;
  readonly signal: AbortSignal;
}

/**
 * Moves twelve made-up clubs from one host to another: one of them stops and is put right, then the DNS is switched in waves.
 * @param whenDone is given the result while all is still being served
 */
export async function fleetDemo(
  { keep, program, environment, began, say, signal }: FleetDemoWish,
  whenDone: (outcome: FleetDemoOutcome, fleet: Fleet) => Promise<void>,
): Promise<void> {
  const folder = await demoFolder(keep, ['fleet', 'old-host', 'new-host']);
  const hosts = new FleetHosts(folder.path);
  try {
    await hosts.open();
    const file = join(hosts.fleet, 'fleet.yaml');
    const configuration = hosts.oldFile(broken, 'wp-config.php');
    await rename(configuration, `${configuration}.away`);
    const fleet = await openFleet(file, environment);
    const { wish } = fleet;
    const limits = { atOnce: wish['at-once'], perHost: wish['per-host'] };
    const runner = () => new OnThisMachine(childRunner(program, fleet.environment), limits);
    const work = async (what: string, command: readonly string[]) => {
      const observe = await began(what, fleet);
      return runFleet(fleet, { command, again: false, runner, observe, signal });
    };
    const first = await work('Every step of every club', ['go']);
    await rename(`${configuration}.away`, configuration);
    const second = await work('Once more, now that what stopped is put right', ['go']);
    const plan = await fleetPlan(fleet);
    await work('Shorter TTLs, and a marker at each end', ['cutover', 'prepare']);
    const observe = await began('The switch, four clubs at a time', fleet);
    const waves = await switchInWaves(
      fleet,
      { runner, observe, signal },
      {
        options: [],
        of: wish.waves.of,
        watchFor: wish.waves['watch-for'],
        every: wish.waves.every,
        began: say,
      },
    );
    await whenDone({ folder: folder.path, kept: keep !== undefined, first, second, plan, waves }, fleet);
  } finally {
    await hosts.close();
    await folder.remove();
  }
}

/** Whether everything that the demo set out to show was seen. */
export function fleetDemoPassed({ first, second, waves }: FleetDemoOutcome): boolean {
  const { sites } = second;
  return (
    first.count.stopped === 1 &&
    first.sites[0]?.site === broken &&
    second.count.done === sites.length &&
    waves.every(({ state }) => state === 'up')
  );
}
