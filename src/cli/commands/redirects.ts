import { command } from '../program/command.js';

export const redirects = command({
  command: 'redirects',
  describe: 'Write the permanent redirects from the old address to the new one',
  examples: [
    ['redirects', 'write the rules for every kind of web server beside the sheet'],
    ['redirects --json', 'the rules as JSON'],
  ],
  run: async argv => {
    const [{ redirects: step }, { showRedirects }, { runAndShow }] = await Promise.all([
      import('../../steps/redirects.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
    ]);
    await runAndShow(argv, step, showRedirects);
  },
});
