import { command } from '../command.js';

export const survey = command({
  command: 'survey',
  describe: 'Look at both ends and say what would stop or trouble the move',
  examples: [
    ['survey', 'look at the ends that ./move.yaml names'],
    ['survey --sheet club/move.yaml --json', 'the same for another sheet, for a script'],
  ],
  run: async argv => {
    const [{ survey: step }, { showSurvey }, { runAndShow }] = await Promise.all([
      import('../../steps/survey.js'),
      import('../show/survey.js'),
      import('../with-move.js'),
    ]);
    await runAndShow({ ...argv, again: true }, step, showSurvey);
  },
});
