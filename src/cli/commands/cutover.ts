import { command } from '../program/command.js';

export const cutover = command({
  command: 'cutover',
  describe: 'Plan the DNS change: what to change when, what to keep, how to go back',
  examples: [
    ['cutover', 'print the plan for the records in the sheet'],
    ['cutover --json', 'the plan as JSON'],
  ],
  run: async argv => {
    const [{ cutover: step }, { showCutover }, { runAndShow }] = await Promise.all([
      import('../../steps/cutover.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
    ]);
    await runAndShow(argv, step, showCutover);
  },
});
