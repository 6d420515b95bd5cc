import { seconds } from '../../core/text/numbers.js';
import type { StepOutcome } from '../../steps/move/step.js';
import { showFindings, type Terminal } from '../terminal/terminal.js';

/** A line that says the result of a step; what was done before is said so. */
export function headline(outcome: StepOutcome<unknown>, text: string, colors: Colors): string {
  if (outcome.state === 'already done')
    return `${colors.green('Already done')}, and nothing has changed since: ${text}`;
  return outcome.state === 'stopped'
    ? colors.bold(colors.red('Stopped.'))
    : `${colors.green('Done')} in ${seconds(outcome.seconds)}: ${text}`;
}

export function withFindings(
  outcome: StepOutcome<unknown>,
  lines: readonly string[],
  colors: Colors,
): string {
  const findings = showFindings(outcome.findings, colors);
  return [...lines, ...(findings ? ['', findings] : [])].join('\n');
}

export type Colors = Terminal['colors'];
