import { ExitCode } from '../../core/errors.js';
import { fenceVariable, workerVariable } from '../../core/fleet/worker.js';
import type { FilesPlace } from '../../ends/files/place.js';
import type { StepOutcome, StepRun } from '../../steps/move/step.js';
import type { Common } from '../terminal/common-options.js';
import { Terminal } from '../terminal/terminal.js';
import { showError } from './show-error.js';

/** How long a step may take to end after it was interrupted, in milliseconds. */
const patience = 1500;

/**
 * A signal that is given when the person presses Ctrl-C or the system asks us to end.
 * @param milliseconds that what is under way may take to end
 */
export function endSignal(milliseconds = patience): AbortSignal {
  const controller = new AbortController();
  const leave = () => process.exit(showError(controller.signal.reason, false));
  const end = () => {
    // Whoever asks twice does not want to wait.
    if (controller.signal.aborted) leave();
    controller.abort(new DOMException('interrupted', 'AbortError'));
    // Whatever is waited for then, such as a host that is down: a step may be ended at any moment.
    setTimeout(leave, milliseconds).unref();
  };
  // It stays a listener when it was called: where it is the last one to go, a package that writes files would end the process.
  process.on('SIGINT', end).on('SIGTERM', end);
  // Whoever began it for a fleet is gone when nobody holds its standard input.
  if (process.env[workerVariable] !== undefined) process.stdin.on('close', end).resume().unref();
  return controller.signal;
}

/** Options of commands that say how a step is to be run. */
interface HowToRun {
  readonly again?: boolean;
  readonly gentle?: boolean;
  readonly oneByOne?: boolean;
}

/** How a command works on a move. */
interface Working {
  /** It only looks: another run may work on the move meanwhile. */
  readonly looksOnly?: boolean;
}

/**
 * Opens the sheet's move and does something with it, while no other run does.
 * @param first the places whose hosts are needed first: they are called while the work begins
 */
export async function withMove(
  argv: Common & HowToRun & Working,
  work: (run: StepRun, terminal: Terminal) => Promise<void>,
  first: (move: StepRun['move']) => readonly (FilesPlace | undefined)[] = () => [],
): Promise<void> {
  const [{ openMove }, { compressLinesSeenSlow }, { GentleRateLimit }, { unlimitedRate }, { askTrust }] =
    await Promise.all([
      import('../../steps/move/open.js'),
      import('../../steps/survey/line-rates.js'),
      import('../../steps/transfer/rate-limit.js'),
      import('../../steps/move/rate-limit.js'),
      import('../terminal/ask.js'),
    ]);
  const signal = endSignal();
  const terminal = await Terminal.open(argv);
  let move: StepRun['move'] | undefined;
  let lock: { release(): Promise<void> } | undefined;
  try {
    move = await openMove(argv.sheet, process.env, askTrust);
    if (!argv.looksOnly) lock = await lockMove(move);
    move.sessions.begin();
    move.accounts.onWaiting(text => terminal.events({ type: 'message', text }));
    if (argv.gentle) move.accounts.limitConnections(2);
    await compressLinesSeenSlow(move);
    await Promise.all(first(move).map(place => place?.connectAhead()));
    const rate = argv.gentle ? new GentleRateLimit() : unlimitedRate;
    const { again, oneByOne } = argv;
    await work({ move, events: terminal.events, signal, again, oneByOne, rate }, terminal);
  } finally {
    terminal.endBar();
    await move?.sessions.close();
    await move?.accounts.close();
    await lock?.release();
  }
}

/** Keeps others from the move. For a fleet, it ends as soon as another worker has taken the move over. */
async function lockMove(move: StepRun['move']): Promise<{ release(): Promise<void> }> {
  if (process.env[fenceVariable] === undefined) return move.folder.lock();
  const { lockForFleet } = await import('../../steps/fleet/member.js');
  return lockForFleet(move, process.env, error => process.exit(showError(error, false)));
}

/** Does one step and shows the result. */
export async function runAndShow<Result>(
  argv: Common & HowToRun,
  step: (run: StepRun) => Promise<StepOutcome<Result>>,
  show: (outcome: StepOutcome<Result>, colors: Terminal['colors']) => string,
  first?: (move: StepRun['move']) => readonly (FilesPlace | undefined)[],
): Promise<void> {
  await withMove(
    argv,
    async (run, terminal) => {
      showOutcome(await step(run), show, terminal);
    },
    first,
  );
}

/** Shows the result of a step. */
export function showOutcome<Outcome extends { readonly state: string }>(
  outcome: Outcome,
  show: (outcome: Outcome, colors: Terminal['colors']) => string,
  terminal: Terminal,
): void {
  terminal.result(outcome, () => show(outcome, terminal.colors));
  if (outcome.state === 'stopped') process.exitCode = ExitCode.stopped;
}
