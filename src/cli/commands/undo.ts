import { command } from '../command.js';

export const undo = command({
  command: 'undo',
  describe: 'Put the new end back as it was before the first delivery',
  examples: [
    ['undo', 'show what would be put back, ask, and do it'],
    ['undo --yes', 'the same without asking'],
  ],
  run: async argv => {
    const [{ undo: step, planUndo }, { showUndo }, { runAndShow }, { askFirst }] = await Promise.all([
      import('../../steps/undo.js'),
      import('../show/steps.js'),
      import('../with-move.js'),
      import('../ask.js'),
    ]);
    await runAndShow(
      argv,
      async run => {
        const { places } = await planUndo(run.move);
        if (places.length > 0)
          await askFirst(
            `Take away what was delivered at ${places.join(' and ')} and put back what stood there?`,
            argv,
          );
        return step(run);
      },
      showUndo,
    );
  },
});
