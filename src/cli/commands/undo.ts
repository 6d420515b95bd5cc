import { command } from '../program/command.js';
import type { Common } from '../terminal/common-options.js';

interface Options {
  readonly list: boolean;
  readonly keepsake: number | undefined;
  readonly kept: string | undefined;
  readonly database: string | undefined;
}

export const undo = command<Options>({
  command: 'undo [kept]',
  describe: 'Restore the new end as it was before the first delivery',
  examples: [
    ['undo', 'show what would be restored, ask, and do it'],
    ['undo --yes', 'the same without asking'],
    ['undo --list', 'list what is kept at the new end, with its number'],
    ['undo --keepsake 2', 'restore what a second delivery replaced'],
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
      .option('list', { type: 'boolean', default: false, describe: 'List what is kept, and change nothing' })
      .option('keepsake', {
        type: 'number',
        describe: 'Put this keepsake in place of what is there, which is kept in its turn',
      })
      .option('database', { type: 'string', describe: 'The database to restore them in' }),
  run: async argv => {
    if (argv.kept !== undefined || argv.database !== undefined) return undoRows(argv);
    const [
      { undo: step, undoKeepsake, planUndo, writtenText, keepsakesOf },
      { showUndo, showKeepsakes },
      { runAndShow, withMove },
      { askFirst },
    ] = await Promise.all([
      import('../../steps/undo.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
      import('../terminal/ask.js'),
    ]);
    if (argv.list) {
      return withMove({ ...argv, looksOnly: true }, async (run, terminal) => {
        const kept = await keepsakesOf(run.move);
        terminal.result(kept, () => showKeepsakes(kept, terminal.colors));
      });
    }
    const { keepsake } = argv;
    if (keepsake !== undefined) {
      return runAndShow(
        argv,
        async run => {
          await askFirst(`Put keepsake ${keepsake} in place of what is there (which is kept)?`, argv);
          return undoKeepsake(run, keepsake);
        },
        showUndo,
      );
    }
    await runAndShow(
      argv,
      async run => {
        const plan = await planUndo(run);
        const written = writtenText(plan);
        const kept = written === undefined ? '' : ` ${written} written there since and will be kept.`;
        if (plan.places.length > 0)
          await askFirst(
            `Remove what was delivered at ${plan.places.join(' and ')} and restore what was there before?${kept}`,
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
