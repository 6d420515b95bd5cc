import { command } from '../program/command.js';

export const survey = command<{ only: 'stop' | 'warn' | undefined; end: 'old' | 'new' | undefined }>({
  command: 'survey [end]',
  describe: 'Look at both ends and report what would stop or disturb the move',
  examples: [
    ['survey', 'look at the ends that ./move.yaml names'],
    ['survey new', 'look at the new end alone, for example after its password was changed'],
    ['survey --only stop', 'say only what stops the move; for a script'],
    ['survey --sheet club/move.yaml --json', 'the same for another sheet, as JSON'],
  ],
  options: argv =>
    argv
      .positional('end', {
        type: 'string',
        choices: ['old', 'new'],
        describe: 'Only one end',
      })
      .option('only', {
        type: 'string',
        choices: ['stop', 'warn'],
        describe: 'Show only findings of at least this level',
      }),
  run: async argv => {
    const [{ survey: step }, { showOnly, showSurvey }, { runAndShow }] = await Promise.all([
      import('../../steps/survey.js'),
      import('../show/survey.js'),
      import('../program/with-move.js'),
    ]);
    await runAndShow(
      { ...argv, again: true },
      run => step(run, argv.end),
      argv.only ? showOnly(argv.only) : showSurvey,
      ({ oldPlace, newFiles }) => [
        argv.end === 'new' ? undefined : oldPlace,
        argv.end === 'old' ? undefined : newFiles,
      ],
    );
  },
});
