import { command } from '../program/command.js';

export const status = command({
  command: 'status',
  describe: 'Show how far the move is',
  examples: [
    ['status', 'the steps, when each was done, and what stopped'],
    ['status --json', 'the same as JSON'],
  ],
  run: async argv => {
    const [{ status: look }, { showStatus }, { withMove }] = await Promise.all([
      import('../../steps/status.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
    ]);
    await withMove({ ...argv, looksOnly: true }, async (run, terminal) => {
      const steps = await look(run);
      terminal.result(steps, () => showStatus(steps, terminal.colors));
    });
  },
});
