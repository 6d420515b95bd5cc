import { seconds } from '../../core/text/numbers.js';
import { headlineOf, worstOf } from '../../core/verdict.js';
import type { CheckResult } from '../../steps/check.js';
import type { DeliverResult } from '../../steps/deliver.js';
import type { GoOutcome } from '../../steps/go.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { table } from '../terminal/table.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';
import { compared, showSeen } from './check.js';

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
    checked ? showSeen(checked.result, colors) : '',
    checked ? compared(checked.result, colors) : '',
    next,
  ]
    .filter(part => part !== '')
    .join('\n');
}

function readiness(checked: CheckResult | undefined, colors: Terminal['colors']): string {
  if (checked && worstOf(checked.seen) === 'seen good')
    return colors.bold(colors.green('The move is ready for the cutover.'));
  const text = checked ? headlineOf(checked.seen) : 'The new site was not compared with the old one yet.';
  return colors.bold(colors.yellow(`Everything is delivered. ${text}`));
}

/** What is left for the person, of what these steps do not do. */
function nextSteps(outcomes: readonly StepOutcome<unknown>[]): string {
  const delivered = outcomes.find((one): one is StepOutcome<DeliverResult> => one.step === 'deliver');
  const steps = [
    ...(delivered?.result.dump ? handLoading(delivered.result) : []),
    'Follow the plan: able-porter cutover',
    'When the DNS is switched: able-porter cutover switch --by-hand',
    'When all is quiet: able-porter tidy',
  ];
  return ['Next:', ...steps.map((text, i) => `  ${i + 1}. ${text}`)].join('\n');
}

/** How a dump that was left for a web panel gets into the database, and is compared there. */
function handLoading({ parts, dump }: DeliverResult): string[] {
  return [
    parts
      ? `Load the pieces in ${parts.folder} into the new database, as READ-ME-FIRST.txt there says`
      : `Load ${dump?.file} into the new database`,
    'Export the new database from the panel, and compare it: able-porter check --export FILE',
  ];
}

/** The state of a step as it may be shown: what was only planned was not done. */
export function plannedOr(step: string, state: string): string {
  const isPlan = step === 'redirects' || step === 'cutover';
  if (!isPlan) return state;
  if (state === 'done') return 'planned';
  return state === 'already done' ? 'already planned' : state;
}

/** How long each step took. */
export function stepTable(outcomes: readonly StepOutcome<unknown>[], colors: Terminal['colors']): string {
  const paint = { done: colors.green, 'already done': colors.dim, stopped: colors.red };
  return table(
    ['step', '', 'took'],
    outcomes.map(({ step, state, seconds: took }) => [
      step,
      paint[state](plannedOr(step, state)),
      state === 'already done' ? '' : seconds(took),
    ]),
    [2],
  );
}
