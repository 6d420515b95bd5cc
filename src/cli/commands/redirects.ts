import type { StepRun } from '../../steps/move/step.js';
import type { RedirectsResult } from '../../steps/redirects.js';
import { command } from '../program/command.js';
import { gentleOption } from '../program/shared-options.js';
import type { Common } from '../terminal/common-options.js';

interface Options {
  readonly action: 'plan' | 'try' | 'put' | 'test' | 'take-back';
  readonly urls: readonly string[];
  readonly accept: number | undefined;
}

export const redirects = command<Options>({
  command: 'redirects [action] [urls..]',
  describe: 'The redirects from the old address to the new one, from the plan to the proof',
  examples: [
    ['redirects', 'gather every known old address, ask the new site for each, and write the rules'],
    ['redirects --accept 0.9', 'also take the likeliest page where it is very like the old one'],
    ['redirects try /2019/05/regatta/', 'show where an address leads; nobody is asked'],
    ['redirects put', 'put them in place at the old site; what is there is kept'],
    ['redirects test', 'ask the old host for every known address'],
    ['redirects take-back', 'remove them from the old site again'],
  ],
  options: argv =>
    gentleOption(argv)
      .positional('action', {
        choices: ['plan', 'try', 'put', 'test', 'take-back'] as const,
        default: 'plan' as const,
        describe: 'What to do',
      })
      .positional('urls', {
        type: 'string',
        array: true,
        default: [],
        describe: 'For try: URLs, or paths below the old address',
      })
      .option('accept', {
        type: 'number',
        describe: 'Take the likeliest new page as the target of an old one from this likeness on (0 to 1)',
      })
      .check(({ accept }) => {
        if (accept !== undefined && !(accept > 0 && accept <= 1))
          throw new Error('--accept is a number from 0 to 1, such as 0.9');
        return true;
      }),
  run: async argv => {
    const [{ withMove, showOutcome }, { showPlaced, showRedirects, showTest, showTrial }] = await Promise.all(
      [import('../program/with-move.js'), import('../show/redirects.js')],
    );
    const { action } = argv;
    await withMove({ ...argv, again: true }, async (run, terminal) => {
      if (action === 'plan') return showOutcome(await plan(run, argv), showRedirects, terminal);
      const deeds = await import('../../steps/redirects/deeds.js');
      if (action === 'try') return showOutcome(await deeds.tryOut(run, argv.urls), showTrial, terminal);
      if (action === 'test') return showOutcome(await deeds.test(run), showTest, terminal);
      const { askFirst } = await import('../terminal/ask.js');
      const where = run.move.sheet.old.files ?? run.move.sheet.old.address;
      if (action === 'put') {
        await askFirst(`Change the old site: put the redirects in place at ${where}?`, argv);
        return showOutcome(await deeds.put(run), showPlaced('put'), terminal);
      }
      await askFirst(`Change the old site: take the redirects away at ${where}?`, argv);
      return showOutcome(await deeds.takeBack(run), showPlaced('take-back'), terminal);
    });
  },
});

/** Plans; at a terminal, a person is then asked for the pages that have no home. */
async function plan(run: StepRun, argv: Common & Options) {
  const { redirects: step } = await import('../../steps/redirects.js');
  const accept = argv.accept === undefined ? undefined : { score: argv.accept };
  const outcome = await step(run, { accept });
  const canAsk =
    process.stdin.isTTY && process.stderr.isTTY && !argv.yes && !argv.quiet && !argv.json && !argv.jsonEvents;
  const open = outcome.result.without.filter(({ likely }) => likely.length > 0);
  if (accept || !canAsk || open.length === 0) return outcome;
  const chosen = await chooseHomes(open);
  return chosen.size === 0 ? outcome : step(run, { accept: { score: 2, chosen } });
}

/** Asks for the new page of each old one, those that are asked for most often first, until there is no more wish to. */
async function chooseHomes(open: RedirectsResult['without']): Promise<Map<string, string>> {
  const { select } = await import('@inquirer/prompts');
  const chosen = new Map<string, string>();
  for (const [i, { page, hits, likely }] of open.entries()) {
    const answer = await select(
      {
        message: `${page} (${hits} hits, ${i + 1} of ${open.length}) leads to`,
        choices: [
          ...likely.map(one => ({
            name: `${one.page}  ${one.score.toFixed(2)} ${one.by.join(', ')}`,
            value: one.page,
          })),
          { name: 'nothing: it is gone (410)', value: '410' },
          { name: 'leave it open', value: '' },
          { name: 'leave this and all others open', value: 'end' },
        ],
      },
      { output: process.stderr },
    );
    if (answer === 'end') break;
    if (answer !== '') chosen.set(page, answer);
  }
  return chosen;
}
