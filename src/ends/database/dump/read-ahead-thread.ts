// Runs in a thread of its own: reads blocks of a dump, and looks for patterns in them, while others are worked on.
import { readSync } from 'node:fs';
import { parentPort, workerData } from 'node:worker_threads';
import { finderIn } from '../../../core/kernels/module.js';
import { blockBytes } from '../../../core/kernels/workbench.js';
import {
  type AheadTask,
  type BlockRead,
  beginAt,
  givenAt,
  placesAt,
  waitedForAt,
} from './read-ahead-task.js';

const { descriptor, shared, places, control } = workerData as AheadTask;
const { table, resume, anchors, most } = places;
const memory = Buffer.from(shared.buffer);
const { find } = finderIn(shared);

/** Waits for the block of a turn. @returns whether there is one */
function isGiven(turn: number): boolean {
  for (;;) {
    const given = Atomics.load(control, givenAt);
    if (given < 0) return false;
    if (given > turn) return true;
    Atomics.wait(control, givenAt, given);
  }
}

/** Fills a block as far as the file goes. */
function fill(place: number, at: number): number {
  let bytes = 0;
  while (bytes < blockBytes) {
    const read = readSync(descriptor, memory, place + bytes, blockBytes - bytes, at + bytes);
    if (read === 0) break;
    bytes += read;
  }
  return bytes;
}

/** Looks through a block, unless that is waited for: then it is looked through there, while the next is read here. */
function look(place: number, bytes: number, out: number): number {
  if (Atomics.load(control, waitedForAt) === 1) return -1;
  const count = find(table, place, bytes, bytes, out, most);
  return memory.readUInt32LE(resume) === bytes ? count : -1;
}

parentPort!.postMessage('ready');
isGiven(0);
for (let turn = control[beginAt]!; isGiven(turn); turn++) {
  const index = turn % anchors.length;
  const place = control[placesAt + index]!;
  const bytes = fill(place, turn * blockBytes);
  parentPort!.postMessage({ bytes, count: look(place, bytes, anchors[index]!) } satisfies BlockRead);
  if (bytes < blockBytes) break;
}
