import { command, standardStream } from '../program/command.js';
import { type WaitingArguments, waitingOf, waitingOptions } from './waiting-options.js';

interface Options extends WaitingArguments {
  readonly ticket: string | undefined;
  readonly listen: boolean;
  readonly deliver: boolean;
}

export const collect = command<Options>({
  command: 'collect [ticket]',
  describe: 'Collect the crate that another machine offers',
  examples: [
    ['collect porter-…', 'fetch the crate into this move folder; run again, it resumes'],
    ['collect porter-… --deliver', 'then rewrite and deliver it at once'],
    ['collect --listen', 'wait for the one who offers, and show the ticket that it needs ("offer --to")'],
  ],
  options: argv =>
    waitingOptions(argv)
      .positional('ticket', {
        type: 'string',
        describe:
          'As "offer" showed it; - reads it from standard input, so that no list of processes shows it',
      })
      .option('listen', {
        type: 'boolean',
        default: false,
        describe: 'Wait for the one who offers, where only this end can be reached',
      })
      .option('deliver', {
        type: 'boolean',
        default: false,
        describe: 'Then rewrite and deliver it',
      }),
  run: async argv => {
    const [
      { showOutcome, withMove },
      { collect: step },
      { readTicket },
      { showCollected, showTicket },
      { askFirst },
    ] = await Promise.all([
      import('../program/with-move.js'),
      import('../../steps/handover/collect.js'),
      import('../../core/handover/ticket.js'),
      import('./show.js'),
      import('../terminal/ask.js'),
    ]);
    const text = argv.ticket === standardStream ? await firstLine() : argv.ticket;
    if (argv.listen === (text !== undefined))
      throw new (await import('../../core/errors.js')).UsageError(oneOfBoth);
    await withMove(argv, async (run, terminal) => {
      const { crate } = run.move;
      if ((await crate.identity()) !== undefined)
        await askFirst(`Put what is collected in place of the crate ${crate.folder}?`, argv);
      const result = await step(run, {
        ticket: text === undefined ? undefined : readTicket(text),
        waiting: waitingOf(argv),
        show: (ticket, ends) =>
          terminal.message(showTicket(ticket, ends, 'offer --to TICKET', terminal.colors)),
      });
      terminal.result(result, () => showCollected(result, terminal.colors));
      if (!argv.deliver) return;
      const [{ rewrite }, { deliver }, { showRewriteStep }, { showDeliver }] = await Promise.all([
        import('../../steps/rewrite.js'),
        import('../../steps/deliver.js'),
        import('../show/rewrite.js'),
        import('../show/deliver.js'),
      ]);
      const rewritten = await rewrite(run);
      showOutcome(rewritten, (outcome, colors) => showRewriteStep(outcome, colors, false), terminal);
      if (rewritten.state !== 'stopped') showOutcome(await deliver(run), showDeliver, terminal);
    });
  },
});

const oneOfBoth = {
  doing: 'Collecting the crate',
  cause: 'it needs either a ticket or --listen',
  remedy: 'Run "able-porter offer" at the old host, and collect with the ticket that it shows',
};

async function firstLine(): Promise<string> {
  const chunks: Buffer[] = [];
  for await (const chunk of process.stdin) chunks.push(chunk as Buffer);
  return Buffer.concat(chunks).toString().split('\n')[0]!;
}
