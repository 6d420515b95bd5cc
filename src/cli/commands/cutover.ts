import { command } from '../program/command.js';

interface Options {
  readonly action: 'plan' | 'switch' | 'back';
  readonly byHand: boolean;
}

export const cutover = command<Options>({
  command: 'cutover [action]',
  describe: 'Plan the DNS change: what to change when, what to keep, how to go back',
  examples: [
    ['cutover', 'print the plan for the records in the sheet'],
    ['cutover --json', 'the plan as JSON'],
    ['cutover switch --by-hand', 'note that you have changed the records: from now on the move is live'],
    ['cutover back --by-hand', 'note that visitors use the old site again'],
  ],
  options: argv =>
    argv
      .positional('action', {
        choices: ['plan', 'switch', 'back'] as const,
        default: 'plan' as const,
        describe: 'What to do',
      })
      .option('by-hand', {
        type: 'boolean',
        default: false,
        describe: 'You have changed the DNS yourself; only note it',
      }),
  run: async argv => {
    const [{ cutover: step, noteSwitched }, { showCutover }, { runAndShow, withMove }] = await Promise.all([
      import('../../steps/cutover.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
    ]);
    const { action, byHand } = argv;
    if (action === 'plan') return runAndShow(argv, step, showCutover);
    return withMove(argv, async (run, terminal) => {
      const life = await noteSwitched(run, action, byHand);
      const text = {
        live: 'Noted: the DNS is switched and the move is live. What visitors write at the new site is no longer replaced.',
        open: 'Noted: visitors use the old site again, and the move is open.',
      };
      terminal.result({ life }, () => text[life]);
    });
  },
});
