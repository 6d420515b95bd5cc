import { UsageError } from '../../core/errors.js';
import { type Ticket, writeTicket } from '../../core/handover/ticket.js';
import { GrowingTar } from '../../ends/archive/growing-tar.js';
import { BackOff } from '../../ends/back-off.js';
import { Offering, type OfferingEvents } from '../../ends/handover/offering.js';
import type { StepRun } from '../move/step.js';
import { pack } from '../pack.js';
import { newTicket, type Waiting } from './tickets.js';

/** How a crate is offered. */
export interface OfferOptions {
  /** Pack the old site meanwhile; the collector gets what is taken already. */
  readonly packs: boolean;
  /** The ticket of a collector that waits; left out, this end waits. */
  readonly to: Ticket | undefined;
  readonly waiting: Waiting;
  /** Takes the ticket that the collector needs. */
  readonly show: (ticket: string, ends: Date) => void;
}

export interface OfferResult {
  /** Bytes of the crate as one tar. */
  readonly bytes: number;
}

/**
 * Offers the crate to one collector, and ends when that one has all of it.
 * @throws UsageError where nobody came in time
 */
export async function offer(run: StepRun, { packs, to, waiting, show }: OfferOptions): Promise<OfferResult> {
  const tar = new GrowingTar(run.move.crate);
  // Without a crate, nobody need wait for it.
  const filled = packs ? packInto(run, tar) : tar.finish(await run.move.crate.manifest());
  const ending = new AbortController();
  const signal = AbortSignal.any([run.signal, ending.signal]);
  filled.catch(error => {
    tar.fail(error);
    ending.abort(error);
  });
  const events: OfferingEvents = {
    collecting: from => run.events({ type: 'message', text: `${from} has begun to collect the crate` }),
    refused: (why, from) => run.events({ type: 'message', text: `${from} was refused: ${why}` }),
    sent: (done, of) => {
      const progress = { what: 'the crate', done, of: of ?? 0, unit: 'bytes' } as const;
      run.events({ type: 'progress', stream: 'ahead', ...progress });
    },
  };
  if (to) {
    const offering = new Offering(tar, to, events);
    const backOff = new BackOff(to.addresses[0]!);
    await offering.serve(to, signal, error =>
      backOff.wait(text => run.events({ type: 'message', text }), error),
    );
  } else await waitFor({ ...run, signal }, tar, { waiting, show, events });
  await filled;
  return { bytes: tar.bytes };
}

async function waitFor(
  run: StepRun,
  tar: GrowingTar,
  { waiting, show, events }: Pick<OfferOptions, 'waiting' | 'show'> & { readonly events: OfferingEvents },
): Promise<void> {
  const made = await newTicket(waiting);
  const offering = new Offering(tar, made, events);
  const { port, close } = await offering.listen(made.certificate, waiting.port);
  let late: NodeJS.Timeout | undefined;
  try {
    show(writeTicket(made.ticket(port)), new Date(made.ends));
    await new Promise<void>((resolve, reject) => {
      late = setTimeout(() => reject(tooLate()), made.ends - Date.now());
      run.signal.addEventListener('abort', () => reject(run.signal.reason), { once: true });
      offering.collected.then(resolve, reject);
    });
  } finally {
    clearTimeout(late);
    await close();
  }
}

/** Packs, and gives each file as soon as the crate has it. */
async function packInto(run: StepRun, tar: GrowingTar): Promise<void> {
  const forerun = { files: 0, way: 'file by file', took: tar.addFile.bind(tar) } as const;
  const { state } = await pack({ ...run, forerun }, { byContent: false, latest: true });
  if (state === 'stopped') {
    throw new UsageError({
      doing: 'Offering the crate',
      cause: 'the old site could not be packed',
      remedy: 'Run "able-porter pack" to see why',
    });
  }
  await tar.finish(await run.move.crate.manifest());
}

function tooLate(): UsageError {
  return new UsageError({
    doing: 'Offering the crate',
    cause: 'nobody has collected all of it before the ticket ended',
    remedy: 'Offer it again; --hours gives more time',
  });
}
