import { dirname, join, resolve } from 'node:path';
import { whileDoing } from '../../ends/system-errors.js';
import { writeWhole } from '../../ends/whole-file.js';
import { childRunner } from '../../steps/fleet/child.js';
import { openFleet } from '../../steps/fleet/fleet.js';
import { OnThisMachine } from '../../steps/fleet/on-this-machine.js';
import { gatherFleet } from '../../steps/fleet/report.js';
import { runFleet } from '../../steps/fleet/run.js';
import { endSignal } from '../program/with-move.js';
import { Terminal } from '../terminal/terminal.js';
import type { FleetArguments } from './arguments.js';
import { LiveTable } from './live-table.js';
import { fleetPage } from './page.js';
import { limitsOf, programFile } from './runner-for.js';

/** Writes the page of every site, and one over all. */
export async function fleetReportCommand(argv: FleetArguments): Promise<void> {
  const signal = endSignal();
  const terminal = await Terminal.open(argv);
  const fleet = await openFleet(argv.fleet, process.env);
  const table = await LiveTable.open(argv, fleet, terminal);
  try {
    const runner = new OnThisMachine(childRunner(programFile(), fleet.environment), limitsOf(argv, fleet));
    const { only } = argv;
    const work = {
      command: ['report'],
      again: true,
      only,
      runner: () => runner,
      observe: table.observe,
      signal,
    };
    const { sites: pages } = await runFleet(fleet, work);
    table.end();
    const file = resolve(argv.out ?? join(fleet.moves, 'report.html'));
    const sites = await gatherFleet(fleet, dirname(file));
    await whileDoing(`Writing ${file}`, () => writeWhole(file, fleetPage(fleet.name, sites)));
    const missing = pages.filter(({ outcome }) => outcome?.state !== 'done').map(({ site }) => site);
    terminal.result({ file, sites, missing }, () =>
      [
        `Wrote ${file}`,
        'It leads to a page a site, in the move folders. Open it in a browser; it needs no network.',
        ...(missing.length > 0 ? [`No page could be written for ${missing.join(', ')}.`] : []),
      ].join('\n'),
    );
  } finally {
    table.end();
  }
}
