import { command } from '../program/command.js';
import { type WaitingArguments, waitingOf, waitingOptions } from './waiting-options.js';

interface Options extends WaitingArguments {
  readonly pack: boolean;
  readonly to: string | undefined;
}

export const offer = command<Options>({
  command: 'offer',
  describe: 'Let another machine collect the crate, where no machine reaches both hosts',
  examples: [
    ['offer', 'wait for one collector and show the ticket that it needs'],
    ['offer --pack', 'pack meanwhile; the collector gets what is taken already'],
    ['offer --to porter-…', 'bring it to a collector that waits, where only that end can be reached'],
  ],
  options: argv =>
    waitingOptions(argv)
      .option('pack', { type: 'boolean', default: false, describe: 'Take the old site meanwhile' })
      .option('to', {
        type: 'string',
        describe: 'The ticket of a collector that waits ("collect --listen")',
      }),
  run: async argv => {
    const [{ withMove }, { offer: step }, { readTicket }, { showOffered, showTicket }] = await Promise.all([
      import('../program/with-move.js'),
      import('../../steps/handover/offer.js'),
      import('../../core/handover/ticket.js'),
      import('./show.js'),
    ]);
    await withMove(argv, async (run, terminal) => {
      const result = await step(run, {
        packs: argv.pack,
        to: argv.to === undefined ? undefined : readTicket(argv.to),
        waiting: waitingOf(argv),
        show: (ticket, ends) => terminal.message(showTicket(ticket, ends, 'collect TICKET', terminal.colors)),
      });
      terminal.result(result, () => showOffered(result, terminal.colors));
    });
  },
});
