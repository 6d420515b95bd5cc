import { join } from 'node:path';
import { ExitCode } from '../../core/errors.js';
import { writeWhole } from '../../ends/whole-file.js';
import { fleetDemo, fleetDemoPassed } from '../../steps/demo/fleet.js';
import { gatherFleet } from '../../steps/fleet/report.js';
import { endSignal } from '../program/with-move.js';
import type { Common } from '../terminal/common-options.js';
import { Terminal } from '../terminal/terminal.js';
import { LiveTable } from './live-table.js';
import { fleetPage } from './page.js';
import { programFile } from './runner-for.js';
import { showFleetDemo } from './show.js';

/** Moves twelve made-up clubs, and shows what that looks like. */
export async function fleetDemoCommand(
  argv: Common & { readonly keep: string | undefined; readonly serve: boolean },
): Promise<void> {
  const signal = endSignal(20_000);
  const terminal = await Terminal.open(argv);
  let table: LiveTable | undefined;
  try {
    await fleetDemo(
      {
        keep: argv.keep,
        program: programFile(),
        environment: process.env,
        signal,
        say: text => table?.message(text),
        began: async (what, fleet) => {
          table?.end();
          terminal.message(terminal.colors.bold(what));
          table = await LiveTable.open(argv, fleet, terminal);
          return table.observe;
        },
      },
      async (outcome, fleet) => {
        table?.end();
        const report = join(fleet.moves, 'report.html');
        if (outcome.kept)
          await writeWhole(report, fleetPage(fleet.name, await gatherFleet(fleet, fleet.moves)));
        terminal.result(outcome, () => showFleetDemo(outcome, argv.serve, terminal.colors));
        if (!fleetDemoPassed(outcome)) process.exitCode = ExitCode.stopped;
        if (!argv.serve) return;
        terminal.message(
          'All sites and hosts are still being served. Try the commands in another terminal; Ctrl-C ends it.',
        );
        await new Promise(resolve => signal.addEventListener('abort', resolve));
      },
    );
  } finally {
    table?.end();
  }
}
