import { command } from '../program/command.js';
import { gentleOption } from '../program/shared-options.js';

export const go = command<{ gentle: boolean }>({
  command: 'go',
  describe: 'Run every step in order, resuming where the last run ended',
  examples: [
    ['go', 'survey, pack, rewrite, deliver, check, redirects and the plan of the cutover'],
    ['go --yes --json-events', 'without asking, with NDJSON events for another program'],
  ],
  options: gentleOption,
  run: async argv => {
    const [{ go: goOn }, { inTheWay }, { showGo }, { withMove }, { askFirst }, { ExitCode }] =
      await Promise.all([
        import('../../steps/go.js'),
        import('../../steps/deliver/in-the-way.js'),
        import('../show/go.js'),
        import('../program/with-move.js'),
        import('../terminal/ask.js'),
        import('../../core/errors.js'),
      ]);
    await withMove(argv, async (run, terminal) => {
      const replaced = await inTheWay(run.move);
      if (replaced.length > 0)
        await askFirst(
          `The move will replace what is at the new end (${replaced.join(', ')}; it is kept). Continue?`,
          argv,
        );
      const outcome = await goOn(run);
      terminal.result(outcome, () => showGo(outcome, terminal.colors));
      if (outcome.stoppedAt) process.exitCode = ExitCode.stopped;
    });
  },
});
