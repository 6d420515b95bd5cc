import { open } from 'node:fs/promises';
import { availableParallelism } from 'node:os';
import { Worker } from 'node:worker_threads';
import { blockBytes, type Workbench } from '../../../core/kernels/workbench.js';
import type { ManySearch, PlacesAhead } from '../../../core/search/many.js';
import {
  type AheadTask,
  type BlockRead,
  beginAt,
  givenAt,
  placesAt,
  waitedForAt,
} from './read-ahead-task.js';

/** Receives how many bytes were read so far. */
type Progress = (bytesRead: number) => void;

/** In a shorter file it would hardly begin before the end. */
const worthwhile = 64 << 20;

/**
 * The bytes of a file, through blocks: one is filled while another is worked on.
 * @param search what is looked for in all of it; in a long file another thread does so ahead
 */
export async function* blocksOf(
  bench: Workbench,
  file: string,
  blocks: readonly Buffer[],
  progress: Progress,
  search: ManySearch | undefined,
  threadFrom = worthwhile,
): AsyncGenerator<Buffer> {
  const handle = await open(file);
  const thread =
    search && availableParallelism() > 1 && (await handle.stat()).size >= threadFrom
      ? AheadThread.begun(bench, handle.fd, blocks, search)
      : undefined;
  let done = 0;
  const read = (turn: number) => {
    const reading = handle.read(blocks[turn % blocks.length]!);
    // Whoever waits for it hears of its error.
    reading.catch(() => {});
    return reading;
  };
  let coming = read(0);
  try {
    for (let turn = 1; ; turn++) {
      const { buffer, bytesRead } = await coming;
      if (bytesRead === 0) return;
      done += bytesRead;
      progress(done);
      if (thread?.isReady && done === turn * blockBytes) {
        yield* thread.goOn(turn, progress);
        return;
      }
      coming = read(turn);
      yield buffer.subarray(0, bytesRead);
    }
  } finally {
    search?.forget();
    // The blocks are not free before that.
    await Promise.allSettled([coming]);
    await thread?.end();
    await handle.close();
  }
}

/** A thread that reads ahead, and looks for patterns in what it has read. */
class AheadThread {
  isReady = false;
  private readonly worker: Worker;
  private readonly blocks: readonly Buffer[];
  private readonly search: ManySearch;
  private readonly places: PlacesAhead;
  private readonly control: Int32Array;
  private readonly blocksRead: BlockRead[] = [];
  private failure: unknown;
  private wake = () => {};
  private readonly ended: Promise<void>;

  /** @returns undefined where what is looked for has no room */
  static begun(
    bench: Workbench,
    descriptor: number,
    blocks: readonly Buffer[],
    search: ManySearch,
  ): AheadThread | undefined {
    const places = search.placesAhead(blocks.length);
    const task = places && { descriptor, shared: bench.shared, places };
    return task && new AheadThread(task, blocks, search);
  }

  private constructor(given: Omit<AheadTask, 'control'>, blocks: readonly Buffer[], search: ManySearch) {
    this.blocks = blocks;
    this.search = search;
    this.places = given.places;
    this.control = new Int32Array(new SharedArrayBuffer(4 * (placesAt + blocks.length)));
    const task: AheadTask = { ...given, control: this.control };
    this.worker = new Worker(threadFile(), { workerData: task });
    this.worker.on('message', (message: BlockRead | 'ready') => {
      if (message === 'ready') this.isReady = true;
      else this.blocksRead.push(message);
      this.wake();
    });
    this.worker.on('error', error => {
      this.failure = error;
      this.wake();
    });
    this.ended = new Promise(resolve => {
      this.worker.on('exit', () => resolve());
    });
  }

  /** Yields the block of the turn before, and all that follow, which the thread reads from here on. */
  async *goOn(turn: number, progress: Progress): AsyncGenerator<Buffer> {
    const { blocks, control, search, places } = this;
    control[beginAt] = turn;
    for (const [index, block] of blocks.entries()) control[placesAt + index] = block.byteOffset;
    this.give(turn + blocks.length - 1);
    yield blocks[(turn - 1) % blocks.length]!;
    for (let next = turn; ; next++) {
      this.giveAgain(next - 1);
      const { bytes, count } = await this.read();
      if (bytes === 0) return;
      progress(next * blockBytes + bytes);
      const index = next % blocks.length;
      const block = blocks[index]!.subarray(0, bytes);
      if (count >= 0) search.foresee(block, places.anchors[index]!, count);
      yield block;
      search.forget();
      if (bytes < blockBytes) return;
    }
  }

  async end(): Promise<void> {
    this.give(-1);
    await this.ended;
  }

  /** Gives the block of a turn, which may be another by now, for the turn in which it is due again. */
  private giveAgain(turn: number): void {
    const { blocks, control } = this;
    const index = turn % blocks.length;
    control[placesAt + index] = blocks[index]!.byteOffset;
    this.give(turn + blocks.length + 1);
  }

  private give(turns: number): void {
    Atomics.store(this.control, givenAt, turns);
    Atomics.notify(this.control, givenAt);
  }

  private async read(): Promise<BlockRead> {
    for (;;) {
      const block = this.blocksRead.shift();
      if (block) return block;
      if (this.failure) throw this.failure;
      Atomics.store(this.control, waitedForAt, 1);
      await new Promise<void>(resolve => {
        this.wake = resolve;
      });
      Atomics.store(this.control, waitedForAt, 0);
    }
  }
}

/** The thread's program, which is built with the whole program. */
function threadFile(): URL {
  const above = import.meta.url.endsWith('.ts') ? '../../../../dist' : '..';
  return new URL(`${above}/ends/database/dump/read-ahead-thread.js`, import.meta.url);
}
