import type { Argv } from 'yargs';
import { UsageError } from '../../core/errors.js';
import type { Waiting } from '../../steps/handover/tickets.js';

/** Two weeks. */
const mostHours = 336;

export interface WaitingArguments {
  readonly port: number;
  readonly at: readonly string[] | undefined;
  readonly hours: number;
}

/** The options of an end that waits for the other one. */
// biome-ignore lint/suspicious/noExplicitAny: yargs types options by their dashed names, code by camel case
export function waitingOptions(argv: Argv<any>): Argv<any> {
  return argv
    .option('port', {
      type: 'number',
      default: 0,
      describe: 'Where to wait; left out, any port that is free',
    })
    .option('at', {
      type: 'string',
      array: true,
      nargs: 1,
      describe: 'The name or address by which the other end reaches this machine, if it is not its own',
    })
    .option('hours', { type: 'number', default: 24, describe: 'The ticket is dead after so many hours' });
}

/** @throws UsageError for a port or a time that is none */
export function waitingOf({ port, at, hours }: WaitingArguments): Waiting {
  const isRight = Number.isInteger(port) && port >= 0 && port < 65536 && hours > 0 && hours <= mostHours;
  if (!isRight) {
    throw new UsageError({
      doing: 'Reading the options',
      cause: `--port is a number up to 65535, and --hours one up to ${mostHours}`,
      remedy: 'Add --help to see how the command is used',
    });
  }
  return { port, at: at ?? [], hours };
}
