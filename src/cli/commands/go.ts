import { command } from '../program/command.js';
import { gentleOption, oneByOneOption } from '../program/shared-options.js';
import { keepHeapSmall } from '../program/small-heap.js';

/** From so many files on the program keeps its heap small. */
const manyFiles = 50_000;

export const go = command<{ gentle: boolean; dryRun: boolean; oneByOne: boolean }>({
  command: 'go',
  describe: 'Run every step in order, resuming where the last run ended',
  examples: [
    ['go', 'survey, pack, rewrite, deliver, check, redirects and the plan of the cutover'],
    ['go --dry-run', 'what each step would do, as far as looking shows it'],
    ['go --yes --json-events', 'without asking, with NDJSON events for another program'],
  ],
  options: argv =>
    oneByOneOption(gentleOption(argv)).option('dry-run', {
      type: 'boolean',
      default: false,
      describe: 'Survey both ends, and try rewriting and delivery on the crate; take and write nothing',
    }),
  run: async argv => {
    const [
      { go: goOn, tryAll },
      { inTheWay },
      { showGo, showGoTrial },
      { withMove },
      { askFirst },
      { ExitCode },
      { saysStop },
    ] = await Promise.all([
      import('../../steps/go.js'),
      import('../../steps/deliver/in-the-way.js'),
      import('../show/go.js'),
      import('../program/with-move.js'),
      import('../terminal/ask.js'),
      import('../../core/errors.js'),
      import('../../core/findings/findings.js'),
    ]);
    await withMove(
      { ...argv, looksOnly: argv.dryRun === true },
      async (run, terminal) => {
        if (argv.dryRun) {
          const trial = await tryAll(run);
          terminal.result(trial, () => showGoTrial(trial, terminal.colors));
          if (saysStop(trial.findings)) process.exitCode = ExitCode.stopped;
          return;
        }
        const replaced = await inTheWay(run.move);
        if (replaced.length > 0)
          await askFirst(
            `The move will replace what is at the new end (${replaced.join(', ')}; it is kept). Continue?`,
            argv,
          );
        const outcome = await goOn(run, ({ old }) => {
          // It takes time, and where there is little to list little would be held.
          if ((old?.files?.files ?? 0) > manyFiles) keepHeapSmall();
        });
        terminal.result(outcome, () => showGo(outcome, terminal.colors));
        if (outcome.stoppedAt) process.exitCode = ExitCode.stopped;
      },
      move => [move.oldPlace, move.newFiles],
    );
  },
});
