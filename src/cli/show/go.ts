import type { Finding } from '../../core/findings/findings.js';
import { count, counted, moment, seconds } from '../../core/text/numbers.js';
import { sizeText } from '../../core/text/sizes.js';
import { headlineOf, worstOf } from '../../core/verdict.js';
import type { CheckResult } from '../../steps/check.js';
import type { DeliverResult } from '../../steps/deliver.js';
import type { GoOutcome, GoTrial } from '../../steps/go.js';
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

/** What a dry run of all steps saw. */
export function showGoTrial(trial: GoTrial, colors: Terminal['colors']): string {
  const { survey, crate, findings } = trial;
  const isStopped = survey.state === 'stopped';
  const rows = isStopped
    ? [['survey', colors.red('stopped'), 'the other steps were not tried']]
    : trialRows(trial);
  const hint =
    !isStopped && !crate
      ? '"able-porter pack" makes a crate on this machine and changes nothing at either end; then a dry run counts addresses and tables too.'
      : 'Details: able-porter survey, rewrite --dry-run, deliver --dry-run';
  return [
    `${colors.bold('Dry run of the whole move.')} Nothing was taken, and nothing was written at either end.`,
    '',
    table(['step', '', ''], rows),
    showFindings(findings, colors),
    ...(isStopped ? [] : [hint]),
  ]
    .filter((part, i) => i === 1 || part !== '')
    .join('\n');
}

function trialRows({ survey, crate, rewriting, delivery }: GoTrial): string[][] {
  const { files, dump } = survey.result.old ?? {};
  const takes = [
    ...(files ? [`${counted(files.files, 'file')} (${sizeText(files.bytes)})`] : []),
    ...(dump ? [counted(dump.tables.length, 'table')] : []),
  ].join(' and ');
  const noCrate = 'not tried: there is no crate yet';
  return [
    ['survey', survey.state, warned(survey.findings)],
    crate?.isCurrent
      ? ['pack', 'already done', `the crate was taken at ${moment(crate.taken)}`]
      : [
          'pack',
          'would run',
          `it would take ${takes || 'nothing'}${crate ? `; what follows is tried on the crate of ${moment(crate.taken)}` : ''}`,
        ],
    ['rewrite', rewriting ? 'tried' : '', rewriting ? rewritingText(rewriting) : noCrate],
    ['deliver', delivery ? 'tried' : '', delivery ? deliveryText(delivery) : noCrate],
    ['check, redirects, cutover', 'would run', 'they compare and plan; they need a delivered site'],
  ];
}

function warned(findings: readonly Finding[]): string {
  const warnings = findings.filter(({ level }) => level === 'warn').length;
  return warnings > 0 ? counted(warnings, 'warning') : 'nothing would trouble the move';
}

function rewritingText({ dump, files }: NonNullable<GoTrial['rewriting']>): string {
  const inFiles = files.totals.occurrences;
  const parts = [
    ...(dump
      ? [
          `${counted(dump.totals.occurrences, 'address', 'addresses')} in ${counted(dump.totals.changed, 'value')} of the dump`,
        ]
      : []),
    ...(inFiles > 0 ? [`${count(inFiles)} in files that the site had written`] : []),
  ];
  return `it would change ${parts.join(', and ') || 'no address'}`;
}

function deliveryText({ files, tables, dump, differences }: NonNullable<GoTrial['delivery']>): string {
  const parts = [
    ...(files
      ? [
          `${counted(files.files, 'file')} (${sizeText(files.bytes)})${files.same > 0 ? `, ${count(files.same)} of them the same there` : ''}`,
        ]
      : []),
    ...(tables
      ? [
          `${counted(tables.tables, 'table')}${tables.replaced.length > 0 ? ` in place of ${count(tables.replaced.length)}` : ''}`,
        ]
      : []),
    ...(dump ? [`a finished dump of ${counted(dump.tables, 'table')}`] : []),
    ...(differences && differences.length > 0
      ? [`changes in ${counted(differences.length, 'file')} of the set-up`]
      : []),
  ];
  return `it would put ${parts.join('; ')}`;
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
