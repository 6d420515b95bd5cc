import { ExitCode } from '../../core/errors.js';
import type { StepOutcome, StepRun } from '../../steps/move/step.js';
import type { Common } from '../terminal/common-options.js';
import { Face } from '../terminal/terminal.js';

/** A signal that is given when the person presses Ctrl-C or the system asks us to end. */
export function endSignal(): AbortSignal {
  const controller = new AbortController();
  const end = () => controller.abort(new DOMException('interrupted', 'AbortError'));
  process.once('SIGINT', end).once('SIGTERM', end);
  return controller.signal;
}

/**
 * Opens the sheet's move and does something with it.
 * @param first the place whose host is needed first: it is called while the work begins
 */
export async function withMove(
  argv: Common & { again?: boolean; gentle?: boolean },
  work: (run: StepRun, face: Face) => Promise<void>,
  first: (move: StepRun['move']) => string | undefined = () => undefined,
): Promise<void> {
  const [
    { openMove },
    { closeSessions, connectAhead, keepToConnections, onWaiting },
    { GentlePace },
    { unhurried },
    { askHostKey },
  ] = await Promise.all([
    import('../../steps/move/open.js'),
    import('../../ends/files/place.js'),
    import('../../steps/transfer/rate-limit.js'),
    import('../../steps/move/rate-limit.js'),
    import('../terminal/ask.js'),
  ]);
  const face = await Face.open(argv);
  try {
    const move = await openMove(argv.sheet, process.env, askHostKey);
    onWaiting(text => face.events({ type: 'message', text }));
    if (argv.gentle) keepToConnections(2);
    const place = first(move);
    if (place !== undefined) await connectAhead(place);
    const pace = argv.gentle ? new GentlePace() : unhurried;
    await work({ move, events: face.events, signal: endSignal(), again: argv.again, pace }, face);
  } finally {
    face.endBar();
    closeSessions();
  }
}

/** Does one step and shows what it came to. */
export async function runAndShow<Result>(
  argv: Common & { again?: boolean; gentle?: boolean },
  step: (run: StepRun) => Promise<StepOutcome<Result>>,
  show: (outcome: StepOutcome<Result>, colors: Face['colors']) => string,
): Promise<void> {
  await withMove(argv, async (run, face) => {
    showOutcome(await step(run), show, face);
  });
}

/** Shows what a step came to. */
export function showOutcome<Outcome extends { readonly state: string }>(
  outcome: Outcome,
  show: (outcome: Outcome, colors: Face['colors']) => string,
  face: Face,
): void {
  face.result(outcome, () => show(outcome, face.colors));
  if (outcome.state === 'stopped') process.exitCode = ExitCode.stopped;
}
