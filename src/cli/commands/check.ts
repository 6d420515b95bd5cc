import { command } from '../program/command.js';

interface Options {
  readonly export: string | undefined;
}

export const check = command<Options>({
  command: 'check',
  describe: 'Compare the new end with the old: files, rows, pages, left-over addresses',
  examples: [
    ['check', 'compare all that the sheet names, and the pages where new.reach is given'],
    ['check --json > check.json', 'keep the result as a document'],
    ['check --export panel.sql.gz', 'compare what a web panel exported from the new database'],
  ],
  options: argv =>
    argv.option('export', {
      type: 'string',
      describe: 'A dump that was exported from the new database, if it cannot be reached',
    }),
  run: async argv => {
    const [{ check: step }, { showCheck }, { runAndShow }] = await Promise.all([
      import('../../steps/check.js'),
      import('../show/check.js'),
      import('../program/with-move.js'),
    ]);
    await runAndShow(
      { ...argv, again: true },
      run => step(run, { exported: argv.export }),
      showCheck,
      move => [move.newFiles],
    );
  },
});
