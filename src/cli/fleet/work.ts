import { ExitCode, UsageError } from '../../core/errors.js';
import { childRunner } from '../../steps/fleet/child.js';
import { openFleet } from '../../steps/fleet/fleet.js';
import { workForFleet } from '../../steps/fleet/work.js';
import { endSignal } from '../program/with-move.js';
import { Terminal } from '../terminal/terminal.js';
import type { FleetArguments } from './arguments.js';
import { LiveTable } from './live-table.js';
import { limitsOf, programFile, queueOf } from './runner-for.js';

/** Works for a fleet on this machine, until Ctrl-C. */
export async function fleetWorkCommand(argv: FleetArguments): Promise<void> {
  const signal = endSignal(60_000);
  const terminal = await Terminal.open(argv);
  const fleet = await openFleet(argv.fleet, process.env);
  const url = queueOf(argv, fleet);
  if (url === undefined) {
    throw new UsageError({
      doing: 'Working for the fleet',
      cause: 'no queue is named',
      remedy: 'Give --queue redis://host, or "queue" in fleet.yaml',
    });
  }
  const table = await LiveTable.open(argv, fleet, terminal);
  try {
    const { isBack } = await workForFleet(fleet, {
      url,
      ...limitsOf(argv, fleet),
      adopt: argv.adopt ?? [],
      runSite: childRunner(programFile(), fleet.environment),
      observe: table.observe,
      say: text => table.message(text),
      signal,
    });
    if (isBack) return;
    table.message('The queue does not answer: it gives the sites to others within 15 seconds of its return.');
    process.exitCode = ExitCode.interrupted;
  } finally {
    table.end();
  }
}
