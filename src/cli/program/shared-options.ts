import type { Argv } from 'yargs';

/** The option to do a step that the journal says is done. */
export function againOption(argv: Argv): Argv<{ again: boolean }> {
  return argv.option('again', {
    type: 'boolean',
    default: false,
    describe: 'Run the step even if the journal says that it is done on the same input',
  });
}

/** The option of steps that compare files with those of an earlier run. */
// biome-ignore lint/suspicious/noExplicitAny: yargs types options by their dashed names, code by camel case
export function byContentOption(argv: Argv<any>): Argv<any> {
  return argv.option('by-content', {
    type: 'boolean',
    default: false,
    describe: 'Detect changes by checksum, not by size and time',
  });
}

/** The option of steps that carry files. */
// biome-ignore lint/suspicious/noExplicitAny: yargs types options by their dashed names, code by camel case
export function gentleOption(argv: Argv<any>): Argv<any> {
  return argv.option('gentle', {
    type: 'boolean',
    default: false,
    describe: 'Go easy on a shared host: few connections, at most 1 MiB a second',
  });
}

/** The option of commands that otherwise do several things side by side. */
// biome-ignore lint/suspicious/noExplicitAny: yargs types options by their dashed names, code by camel case
export function oneByOneOption(argv: Argv<any>): Argv<any> {
  return argv.option('one-by-one', {
    type: 'boolean',
    default: false,
    describe: 'Do one thing after the other, for a host that bears little: it takes longer',
  });
}
