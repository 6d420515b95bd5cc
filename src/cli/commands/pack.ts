import { againOption } from '../again.js';
import { command } from '../command.js';

export const pack = command<{ again: boolean }>({
  command: 'pack',
  describe: 'Take files and database of the old site into the crate',
  examples: [
    ['pack', 'take what the sheet names; what is taken already and unchanged is kept'],
    ['pack --again', 'go through all of it even if the journal says that it is done'],
  ],
  options: againOption,
  run: async argv => {
    const [{ pack: step }, { showPack }, { runAndShow }] = await Promise.all([
      import('../../steps/pack.js'),
      import('../show/steps.js'),
      import('../with-move.js'),
    ]);
    await runAndShow(argv, step, showPack);
  },
});
