import { command } from '../command.js';

export const check = command({
  command: 'check',
  describe: 'Compare the new end with the old: files, rows, pages, left-over addresses',
  examples: [
    ['check', 'compare all that the sheet names, and the pages where new.reach is given'],
    ['check --json > check.json', 'keep the result as a document'],
  ],
  run: async argv => {
    const [{ check: step }, { showCheck }, { runAndShow }] = await Promise.all([
      import('../../steps/check.js'),
      import('../show/check.js'),
      import('../with-move.js'),
    ]);
    await runAndShow({ ...argv, again: true }, step, showCheck);
  },
});
