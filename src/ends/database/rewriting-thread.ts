import { isMainThread, parentPort, Worker } from 'node:worker_threads';
import { DamageError } from '../../core/errors.js';
import { DumpRewriter } from '../../core/rewrite/dump.js';
import { compileDumpTerms, type DumpTerms } from '../../core/rewrite/dump-terms.js';
import type { PlaceTally } from '../../core/rewrite/tally.js';
import type { TableRows } from '../../core/sql/row-count.js';

/** What was seen and done in a dump. */
export interface RewrittenDump {
  readonly places: readonly PlaceTally[];
  readonly tables: readonly TableRows[];
}

/** Bytes that are handed to the thread, and given back by it, at a time. */
const givenBytes = 2 << 20;
const madeBytes = 4 << 20;
/** So many parts of a dump may be on their way to the thread. */
const mostUnderWay = 3;

/** Bytes in a buffer that goes to and fro, so that its memory is used again. */
interface Part {
  readonly memory: ArrayBuffer;
  readonly size: number;
}

type ToThread = { readonly given: Part } | { readonly spent: ArrayBuffer } | 'finish';
type FromThread =
  | 'ready'
  | { readonly made: Part }
  | { readonly spent: ArrayBuffer }
  | { readonly done: RewrittenDump }
  | { readonly failed: unknown; readonly told: DamageError['told'] | undefined };

/** Rewrites a dump in a thread of its own, while this one reads and writes. */
export class RewritingThread {
  private readonly worker: Worker;
  private readonly emit: ((chunk: Buffer) => void) | undefined;
  private readonly free: ArrayBuffer[] = [];
  private underWay = 0;
  private failure: unknown;
  private done: RewrittenDump | undefined;
  private wake = () => {};

  private constructor(worker: Worker, emit: ((chunk: Buffer) => void) | undefined) {
    this.worker = worker;
    this.emit = emit;
  }

  /**
   * @param emit takes the rewritten dump; left out, it is only counted
   * @returns undefined where no thread can be begun
   */
  static async begin(
    terms: DumpTerms,
    emit: ((chunk: Buffer) => void) | undefined,
  ): Promise<RewritingThread | undefined> {
    const worker = new Worker(new URL(import.meta.url), {
      workerData: { terms, writes: emit !== undefined },
      resourceLimits: { maxYoungGenerationSizeMb: 4 },
    });
    const begun = await new Promise<boolean>(resolve => {
      worker.once('message', () => resolve(true));
      // There is no memory for it, or it is run from sources that it cannot read.
      worker.once('error', () => resolve(false));
    });
    if (!begun) return undefined;
    const thread = new RewritingThread(worker, emit);
    worker.on('message', (message: FromThread) => thread.take(message));
    worker.on('error', error => thread.fail(error));
    return thread;
  }

  /** Hands over a chunk, which may be changed after the call. */
  push(chunk: Buffer): void {
    for (let at = 0; at < chunk.length; at += givenBytes) {
      const memory = this.free.pop() ?? new ArrayBuffer(givenBytes);
      const size = chunk.copy(new Uint8Array(memory), 0, at);
      this.underWay++;
      this.send({ given: { memory, size } }, memory);
    }
  }

  /** Ends when the thread can be handed more. @throws DamageError when the dump is damaged */
  async room(): Promise<void> {
    while (this.underWay >= mostUnderWay && !this.failure) await this.news();
    if (this.failure) throw this.failure;
  }

  /** Ends when all is rewritten. @throws DamageError when the dump is damaged or ends too early */
  async finish(): Promise<RewrittenDump> {
    this.send('finish');
    while (!this.done && !this.failure) await this.news();
    if (this.failure) throw this.failure;
    return this.done!;
  }

  /** Ends the thread, whatever it does. */
  async end(): Promise<void> {
    await this.worker.terminate();
  }

  private send(message: ToThread, handed?: ArrayBuffer): void {
    this.worker.postMessage(message, handed ? [handed] : []);
  }

  private news(): Promise<void> {
    return new Promise(resolve => {
      this.wake = resolve;
    });
  }

  private fail(error: unknown): void {
    this.failure ??= error;
    this.wake();
  }

  private take(message: FromThread): void {
    if (typeof message === 'string') return;
    if ('made' in message) {
      const { memory, size } = message.made;
      try {
        this.emit?.(Buffer.from(memory, 0, size));
      } catch (error) {
        this.fail(error);
      }
      this.send({ spent: memory }, memory);
    } else if ('spent' in message) {
      this.underWay--;
      this.free.push(message.spent);
    } else if ('done' in message) this.done = message.done;
    else this.failure ??= message.told ? new DamageError(message.told) : message.failed;
    this.wake();
  }
}

/** The other side: what is run in the thread. */
function serve(port: NonNullable<typeof parentPort>, terms: DumpTerms, writes: boolean): void {
  const free: ArrayBuffer[] = [];
  let memory: ArrayBuffer | undefined;
  let size = 0;
  const send = (message: FromThread, handed?: ArrayBuffer) =>
    port.postMessage(message, handed ? [handed] : []);
  const flush = () => {
    if (!memory) return;
    send({ made: { memory, size } }, memory);
    memory = undefined;
    size = 0;
  };
  const emit = (chunk: Buffer) => {
    for (let at = 0; at < chunk.length; ) {
      memory ??= free.pop() ?? new ArrayBuffer(madeBytes);
      const copied = chunk.copy(new Uint8Array(memory), size, at);
      size += copied;
      at += copied;
      if (size === madeBytes) flush();
    }
  };
  const rewriter = new DumpRewriter(compileDumpTerms(terms), writes ? emit : undefined);
  port.on('message', (message: ToThread) => {
    try {
      if (message === 'finish') {
        rewriter.finish();
        flush();
        send({ done: { places: rewriter.tally.all(), tables: [...rewriter.tables.values()] } });
      } else if ('given' in message) {
        const { given } = message;
        rewriter.push(Buffer.from(given.memory, 0, given.size));
        send({ spent: given.memory }, given.memory);
      } else free.push(message.spent);
    } catch (error) {
      send({ failed: error, told: error instanceof DamageError ? error.told : undefined });
    }
  });
  send('ready');
}

if (!isMainThread && parentPort) {
  const { workerData } = await import('node:worker_threads');
  if (workerData?.terms) serve(parentPort, workerData.terms, workerData.writes);
}
