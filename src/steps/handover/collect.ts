import type { Duplex } from 'node:stream';
import type { TLSSocket } from 'node:tls';
import { DamageError, UsageError } from '../../core/errors.js';
import { TicketJudge } from '../../core/handover/judge.js';
import { type Ticket, writeTicket } from '../../core/handover/ticket.js';
import { Collecting, type Source } from '../../ends/handover/collecting.js';
import { connectTo, listen } from '../../ends/handover/connection.js';
import { welcome } from '../../ends/handover/offering.js';
import { triedOut } from '../../ends/handover/refusals.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import type { StepRun } from '../move/step.js';
import { takeCrate } from '../pack/archive.js';
import { newTicket, type Waiting } from './tickets.js';

/** How a crate is collected. */
export interface CollectOptions {
  /** Of the one who offers; left out, this end waits for that one. */
  readonly ticket: Ticket | undefined;
  readonly waiting: Waiting;
  readonly show: (ticket: string, ends: Date) => void;
}

export interface CollectResult {
  readonly crate: string;
  readonly manifest: CrateManifest;
  /** Bytes that were transferred in this run. */
  readonly bytes: number;
}

/** A line that nobody ends, in bytes: a secret is shorter. */
const longestHello = 64;
const doing = 'Collecting the crate';

/** Collects a crate from whoever offers it, verifies all of it, and puts it in place of the one in the move folder. */
export async function collect(run: StepRun, options: CollectOptions): Promise<CollectResult> {
  const { move } = run;
  const ending = new AbortController();
  const signal = AbortSignal.any([run.signal, ending.signal]);
  const { ticket } = options;
  if (ticket && Date.now() >= ticket.ends) throw late();
  const waiting = ticket ? undefined : await WaitingCollector.listen(run, options);
  const source: Source = waiting ?? {
    connect: () => connectTo(ticket!, signal),
    secret: ticket!.secret,
    text: ticket!.addresses[0]!,
  };
  const collecting = new Collecting(move.folder.at('collect'), source, signal, {
    progress: (done, of) =>
      run.events({ type: 'progress', what: 'the crate', done, of: of ?? 0, unit: 'bytes' }),
    say: text => run.events({ type: 'message', text }),
  });
  try {
    // What has come is unpacked while the rest comes.
    const fetching = collecting.fetch();
    fetching.catch(() => {});
    const taking = takeCrate(run, collecting.content(), `what ${source.text} offers`);
    const manifest = await Promise.all([taking, fetching]).then(
      ([taken]) => taken,
      async error => {
        ending.abort();
        await fetching.catch(() => {});
        run.signal.throwIfAborted();
        // What is damaged is not resumed.
        if (error instanceof DamageError) await collecting.forget();
        throw error;
      },
    );
    await collecting.done();
    return { crate: move.crate.folder, manifest, bytes: collecting.came };
  } finally {
    collecting.close();
    await waiting?.close();
  }
}

function late(): UsageError {
  return new UsageError({
    doing,
    cause: 'the ticket is too old',
    remedy: 'Offer the crate again, with a new ticket',
  });
}

/** Waits for the one who offers, who opens the connections. */
class WaitingCollector implements Source {
  readonly secret: string;
  readonly text = 'the one who offers';
  private readonly judge: TicketJudge;
  private readonly sockets: TLSSocket[] = [];
  private readonly wanted: { resolve(socket: Duplex): void; reject(error: Error): void }[] = [];
  private readonly all = new Set<TLSSocket>();
  private end: () => Promise<void> = async () => {};

  private constructor({ secret, ends }: Pick<Ticket, 'secret' | 'ends'>) {
    this.secret = secret;
    this.judge = new TicketJudge({ secret, ends });
  }

  static async listen(run: StepRun, { waiting, show }: CollectOptions): Promise<WaitingCollector> {
    const made = await newTicket(waiting);
    const collector = new WaitingCollector(made);
    const { port, close } = await listen(made.certificate, waiting.port, socket =>
      collector.meet(socket, run),
    );
    collector.end = close;
    show(writeTicket(made.ticket(port)), new Date(made.ends));
    return collector;
  }

  async connect(): Promise<Duplex> {
    const socket = this.sockets.shift();
    if (socket && !socket.destroyed) return socket;
    if (socket) return this.connect();
    if (this.judge.dead) throw triedOut(doing);
    return new Promise((resolve, reject) => this.wanted.push({ resolve, reject }));
  }

  async close(): Promise<void> {
    for (const socket of this.all) socket.destroy();
    await this.end();
  }

  /** Somebody has come, who says the secret first. */
  private meet(socket: TLSSocket, run: StepRun): void {
    this.all.add(socket);
    socket.on('error', () => {}).once('close', () => this.all.delete(socket));
    let said = Buffer.alloc(0);
    const hear = (chunk: Buffer) => {
      said = Buffer.concat([said, chunk]);
      const end = said.indexOf('\n');
      if (end < 0 && said.length <= longestHello) return;
      // From here on nothing comes that was not asked for.
      socket.off('data', hear);
      const why = this.judge.refuses(said.toString('latin1', 0, Math.max(0, end)), 'the one who offers');
      if (why !== undefined) {
        run.events({ type: 'message', text: `${socket.remoteAddress} was refused: ${why}` });
        socket.end(`${why}\n`);
        if (this.judge.dead) for (const { reject } of this.wanted.splice(0)) reject(triedOut(doing));
        return;
      }
      socket.write(`${welcome}\n`);
      const wanted = this.wanted.shift();
      if (wanted) wanted.resolve(socket);
      else this.sockets.push(socket);
    };
    socket.on('data', hear);
  }
}
