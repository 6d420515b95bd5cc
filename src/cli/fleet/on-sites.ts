import { ExitCode } from '../../core/errors.js';
import type { FleetCount } from '../../core/fleet/outcome.js';
import { counted } from '../../core/text/numbers.js';
import type { Fleet } from '../../steps/fleet/fleet.js';
import { openFleet } from '../../steps/fleet/fleet.js';
import { runFleet } from '../../steps/fleet/run.js';
import { fleetPlan, switchInWaves } from '../../steps/fleet/waves.js';
import { endSignal } from '../program/with-move.js';
import { askFirst } from '../terminal/ask.js';
import { Terminal } from '../terminal/terminal.js';
import type { FleetArguments } from './arguments.js';
import { LiveTable } from './live-table.js';
import { runnerFor } from './runner-for.js';
import { showFleet, showPlan, showWaves } from './show.js';

/** What only looks, or works in the move folder alone, is not asked for. */
const unasked = [
  'survey',
  'pack',
  'rewrite',
  'check',
  'redirects',
  'redirects plan',
  'redirects try',
  'redirects test',
  'cutover',
  'cutover plan',
  'cutover watch',
];

/** After these, one plan over all zones is shown. */
const plans = ['cutover', 'cutover plan'];

/** Runs a command on every site of a fleet. */
export async function onSitesCommand(argv: FleetArguments): Promise<void> {
  // The sites' processes end first.
  const signal = endSignal(20_000);
  const terminal = await Terminal.open(argv);
  const fleet = await openFleet(argv.fleet, process.env);
  const words = [argv.what, ...(argv.action === undefined ? [] : [argv.action])];
  const command = [...words, ...(argv.with ?? [])];
  const sites = argv.only?.length ?? fleet.sites.length;
  if (!unasked.includes(words.join(' ')))
    await askFirst(
      `Run "${words.join(' ')}" on ${counted(sites, 'site')}, answering yes to what each asks?`,
      argv,
    );
  const table = await LiveTable.open(argv, fleet, terminal);
  const { only, again } = argv;
  const runner = runnerFor(argv, fleet, text => table.message(text));
  const work = { runner, only, observe: table.observe, signal };
  try {
    if (words.join(' ') === 'cutover switch')
      return await switchWaves(argv, fleet, work, { table, terminal });
    const outcome = await runFleet(fleet, { ...work, command, again });
    table.end();
    const plan = plans.includes(words.join(' ')) ? await fleetPlan(fleet) : undefined;
    terminal.result(plan ? { ...outcome, plan } : outcome, () =>
      [showFleet(outcome, terminal.colors), ...(plan ? ['', showPlan(plan, terminal.colors)] : [])].join(
        '\n',
      ),
    );
    setExitCode(outcome.count, signal);
  } finally {
    table.end();
  }
}

async function switchWaves(
  argv: FleetArguments,
  fleet: Fleet,
  work: Parameters<typeof switchInWaves>[1],
  { table, terminal }: { readonly table: LiveTable; readonly terminal: Terminal },
): Promise<void> {
  const { waves } = fleet.wish;
  const done = await switchInWaves(fleet, work, {
    options: argv.with ?? [],
    of: argv.wave ?? waves.of,
    watchFor: waves['watch-for'],
    every: waves.every,
    began: text => table.message(text),
  });
  table.end();
  terminal.result({ waves: done }, () => showWaves(done, terminal.colors));
  if (work.signal.aborted) process.exitCode = ExitCode.interrupted;
  else if (done.some(({ state }) => state !== 'up')) process.exitCode = ExitCode.stopped;
}

function setExitCode({ failed, stopped, interrupted, waiting }: FleetCount, signal: AbortSignal): void {
  if (signal.aborted || interrupted + waiting > 0) process.exitCode = ExitCode.interrupted;
  else if (failed > 0) process.exitCode = ExitCode.partWay;
  else if (stopped > 0) process.exitCode = ExitCode.stopped;
}
