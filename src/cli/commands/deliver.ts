import { againOption } from '../again.js';
import { command } from '../command.js';

export const deliver = command<{ again: boolean }>({
  command: 'deliver',
  describe: 'Put files, database and configuration at the new end',
  examples: [
    ['deliver', 'make all ready beside the new place, then put it there; what stood there is kept'],
    ['deliver --yes', 'the same without asking, for a script'],
  ],
  options: againOption,
  run: async argv => {
    const [{ deliver: step }, { wouldReplace }, { showDeliver }, { runAndShow }, { askFirst }] =
      await Promise.all([
        import('../../steps/deliver.js'),
        import('../../steps/put-back.js'),
        import('../show/steps.js'),
        import('../with-move.js'),
        import('../ask.js'),
      ]);
    await runAndShow(
      argv,
      async run => {
        const replaced = await wouldReplace(run.move);
        if (replaced.length > 0)
          await askFirst(
            `Put the new site in place of what stands at ${replaced.join(' and ')} (it is kept)?`,
            argv,
          );
        return step(run);
      },
      showDeliver,
    );
  },
});
