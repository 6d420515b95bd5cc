import { command } from '../program/command.js';

interface Options {
  readonly unchecked: boolean;
  readonly notSwitched: boolean;
}

export const tidy = command<Options>({
  command: 'tidy',
  describe: 'Remove what the move left behind, and list what to do by hand',
  examples: [
    ['tidy', 'show what would be removed, ask, and remove it'],
    ['tidy --yes', 'remove keepsakes, scraps and the crate without asking'],
    ['tidy --not-switched', 'the same although no cutover has taken place'],
  ],
  options: argv =>
    argv
      .option('unchecked', {
        type: 'boolean',
        default: false,
        describe: 'Tidy although the check stopped or was never made',
      })
      .option('not-switched', {
        type: 'boolean',
        default: false,
        describe: 'Tidy although the DNS was not switched',
      }),
  run: async argv => {
    const [{ tidy: step, planTidy }, { showTidy }, { runAndShow }, { askFirst }] = await Promise.all([
      import('../../steps/tidy.js'),
      import('../show/steps.js'),
      import('../program/with-move.js'),
      import('../terminal/ask.js'),
    ]);
    await runAndShow(
      argv,
      async run => {
        const { paths, redirects } = await planTidy(run.move);
        const parts = [
          ...(paths.length > 0 ? [`Remove for good: ${paths.join(', ')}`] : []),
          ...(redirects === undefined ? [] : [`Make the redirects in ${redirects} permanent`]),
        ];
        if (parts.length > 0) await askFirst(`${parts.join('. ')}?`, argv);
        return step(run, argv);
      },
      showTidy,
    );
  },
});
