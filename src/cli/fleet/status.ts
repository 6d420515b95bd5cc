import { openFleet } from '../../steps/fleet/fleet.js';
import { fleetStatus } from '../../steps/fleet/look.js';
import { Terminal } from '../terminal/terminal.js';
import type { FleetArguments } from './arguments.js';
import { showFleetStatus } from './show.js';

/** Shows how far every site is. */
export async function fleetStatusCommand(argv: FleetArguments): Promise<void> {
  const terminal = await Terminal.open(argv);
  const all = await fleetStatus(await openFleet(argv.fleet, process.env));
  terminal.result(all, () => showFleetStatus(all, terminal.colors));
}
