import type { Argv, CommandModule } from 'yargs';
import type { Common } from '../terminal/common-options.js';

/** A lone `-` among a command's words: standard input or output. */
export const standardStream = 'stdio:';

/** A command of the command line: its words, its options, and what it does. */
interface Described<Options> {
  readonly command: string;
  readonly describe: string;
  /** Two real uses, each with what it does. */
  readonly examples: readonly (readonly [use: string, what: string])[];
  // biome-ignore lint/suspicious/noExplicitAny: yargs types options by their dashed names, code by camel case
  readonly options?: (argv: Argv<any>) => Argv<any>;
  readonly run: (argv: Common & Options) => Promise<void>;
}

/** Makes a command for yargs of its description. */
// biome-ignore lint/suspicious/noExplicitAny: yargs' own type for a list of commands with different options
export function command<Options = object>(described: Described<Options>): CommandModule<any, any> {
  return {
    command: described.command,
    describe: described.describe,
    builder: argv => {
      const withOptions = described.options?.(argv) ?? argv;
      return withOptions.example(
        described.examples.map(([use, what]) => [`$0 ${use}`, what] as [string, string]),
      );
    },
    handler: argv => described.run(argv as unknown as Common & Options),
  };
}
