import { againOption, byContentOption } from '../again.js';
import { command } from '../command.js';

export const pack = command<{ again: boolean; byContent: boolean }>({
  command: 'pack',
  describe: 'Take files and database of the old site into the crate',
  examples: [
    ['pack', 'take what the sheet names; what is taken already and unchanged is kept'],
    ['pack --by-content', 'compare what was taken before by checksum, not by size and time alone'],
  ],
  options: argv => byContentOption(againOption(argv)),
  run: async argv => {
    const [{ pack: step }, { showPack }, { runAndShow }] = await Promise.all([
      import('../../steps/pack.js'),
      import('../show/steps.js'),
      import('../with-move.js'),
    ]);
    await runAndShow(argv, run => step(run, argv), showPack);
  },
});
