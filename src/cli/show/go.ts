import { seconds } from '../../core/text/numbers.js';
import type { CheckResult } from '../../steps/check.js';
import type { DeliverResult } from '../../steps/deliver.js';
import type { GoOutcome } from '../../steps/go.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';
import { compared } from './check.js';

/** The result of all steps: what stopped first, then each step with its time. */
export function showGo({ outcomes, stoppedAt }: GoOutcome, colors: Terminal['colors']): string {
  const last = outcomes.at(-1)!;
  const checked = outcomes.find((one): one is StepOutcome<CheckResult> => one.step === 'check');
  const head = stoppedAt
    ? `${colors.bold(colors.red(`Stopped at ${stoppedAt}.`))} What it found:\n\n${showFindings(last.findings, colors)}`
    : readiness(checked?.result, colors) + '\n';
  const next = stoppedAt
    ? 'Follow its remedy, then run "able-porter go" again; it resumes where it was.'
    : nextSteps(outcomes);
  const warnings = stoppedAt
    ? []
    : outcomes.flatMap(({ findings }) => findings.filter(({ level }) => level === 'warn'));
  return [
    head,
    '',
    showFindings(warnings, colors),
    stepTable(outcomes, colors),
    checked ? compared(checked.result, colors) : '',
    next,
  ]
    .filter(part => part !== '')
    .join('\n');
}

function readiness(checked: CheckResult | undefined, colors: Terminal['colors']): string {
  return checked && checked.pages.length > 0
    ? colors.bold(colors.green('The move is ready for the cutover.'))
    : colors.bold(
        colors.yellow('Everything is delivered; the pages of the new site are still to be looked at.'),
      );
}

/** What is left for the person, of what these steps do not do. */
function nextSteps(outcomes: readonly StepOutcome<unknown>[]): string {
  const delivered = outcomes.find((one): one is StepOutcome<DeliverResult> => one.step === 'deliver');
  const steps = [
    ...(delivered?.result.dump
      ? ['Load the finished dump into the new database, if it is not yet there, and run "able-porter check"']
      : []),
    'Follow the plan: able-porter cutover',
    'When all is quiet: able-porter tidy',
  ];
  return ['Next:', ...steps.map((text, i) => `  ${i + 1}. ${text}`)].join('\n');
}

/** How long each step took. */
export function stepTable(outcomes: readonly StepOutcome<unknown>[], colors: Terminal['colors']): string {
  const paint = { done: colors.green, 'already done': colors.dim, stopped: colors.red };
  return table(
    ['step', '', 'took'],
    outcomes.map(({ step, state, seconds: took }) => [
      step,
      paint[state](state),
      state === 'already done' ? '' : seconds(took),
    ]),
    [2],
  );
}
