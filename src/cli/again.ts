import type { Argv } from 'yargs';

/** The option to do a step that the journal says is done. */
export function againOption(argv: Argv): Argv<{ again: boolean }> {
  return argv.option('again', {
    type: 'boolean',
    default: false,
    describe: 'Do it even where the journal says that it is done on the same input',
  });
}
