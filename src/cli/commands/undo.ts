import { command } from '../program/command.js';
import type { Common } from '../terminal/common-options.js';

interface Options {
  readonly kept: string | undefined;
  readonly database: string | undefined;
}

export const undo = command<Options>({
  command: 'undo [kept]',
  describe: 'Restore the new end as it was before the first delivery',
  examples: [
    ['undo', 'show what would be restored, ask, and do it'],
    ['undo --yes', 'the same without asking'],
    [
      'undo site.before-rewriting.sql --database mysql://user@127.0.0.1/site',
      'restore what a rewriting of a live database changed (its password in DATABASE_PASSWORD)',
    ],
  ],
  options: argv =>
    argv
      .positional('kept', {
        type: 'string',
        describe: 'The file with the previous rows of a rewritten database',
      })
      .option('database', { type: 'string', describe: 'The database to restore them in' }),
  run: async argv => {
    if (argv.kept !== undefined || argv.database !== undefined) return undoRows(argv);
    const [{ undo: step, planUndo }, { showUndo }, { runAndShow }, { askFirst }] = await Promise.all([
      import('../../steps/undo.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
      import('../terminal/ask.js'),
    ]);
    await runAndShow(
      argv,
      async run => {
        const { places } = await planUndo(run.move);
        if (places.length > 0)
          await askFirst(
            `Remove what was delivered at ${places.join(' and ')} and restore what was there before?`,
            argv,
          );
        return step(run);
      },
      showUndo,
    );
  },
});

async function undoRows(argv: Common & Options): Promise<void> {
  const [
    { putBackRows, databaseAt },
    { showRowsPutBack },
    { Terminal },
    { endSignal },
    { askFirst, databasePassword },
  ] = await Promise.all([
    import('../../steps/rewrite/restore-rows.js'),
    import('../show/rewrite.js'),
    import('../terminal/terminal.js'),
    import('../program/with-move.js'),
    import('../terminal/ask.js'),
  ]);
  const { kept, database } = argv;
  const place = databaseAt(kept, database, database && (await databasePassword(database)));
  const terminal = await Terminal.open(argv);
  try {
    await askFirst(`Put back what ${kept} holds into the database ${place.name}?`, argv);
    const outcome = await putBackRows(kept!, place, terminal.events, endSignal());
    terminal.result(outcome, () => showRowsPutBack(outcome, terminal.colors));
  } finally {
    terminal.endBar();
  }
}
