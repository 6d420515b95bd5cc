import type { SharedMemory } from '../../../core/kernels/module.js';
import type { PlacesAhead } from '../../../core/search/many.js';

/** What the thread is given. */
export interface AheadTask {
  /** The file, open in the other thread. */
  readonly descriptor: number;
  readonly shared: SharedMemory;
  readonly places: PlacesAhead;
  readonly control: Int32Array;
}

/** What it reports about a block that it has read. */
export interface BlockRead {
  readonly bytes: number;
  /** How many places it found; -1 where it did not look, or where there was no room for all. */
  readonly count: number;
}

/**
 * In the control: how many blocks were given in all, or -1 for the end; the turn to begin with; whether the next block is
 * waited for; where the blocks lie.
 */
export const givenAt = 0;
export const beginAt = 1;
export const waitedForAt = 2;
export const placesAt = 3;
