import { applyEdits, type ByteString } from '../../bytes.js';
import { excerpt } from '../../text/display.js';
import type { LeftList } from '../report/left-list.js';
import { observerOf, unnoted } from '../report/observer.js';
import { sampleChange } from '../report/samples.js';
import type { PlaceTally } from '../report/tally.js';
import type { Rules } from '../terms/rules.js';
import { editsInValue } from './value.js';

/**
 * Rewrites one whole value that is on its own: a file, or a cell of a row; and counts it.
 * @returns the value afterwards, or undefined where nothing changes
 */
export function rewriteSingleValue(
  value: ByteString,
  rules: Rules,
  place: PlaceTally,
  left?: LeftList,
): ByteString | undefined {
  place.seen++;
  const edits = editsInValue(value, rules, observerOf(place, left));
  if (edits.length === 0) return undefined;
  place.changed++;
  sampleChange(place, value, edits);
  return applyEdits(value, edits);
}

/** Counts the old addresses of a value that is left. */
export function countLeftInValue(
  value: ByteString,
  rules: Rules,
  place: PlaceTally,
  why: NonNullable<PlaceTally['leftWhy']>,
  left?: LeftList,
): void {
  place.seen++;
  place.leftWhy ??= why;
  for (const { start } of editsInValue(value, rules, unnoted)) {
    place.left++;
    const sample = excerpt(value, start);
    place.missSamples.left ??= sample;
    left?.note(place, why, sample);
  }
}
