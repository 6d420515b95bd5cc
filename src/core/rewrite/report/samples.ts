import { applyEdits, asBytes, type ByteString, type Edit, textOf } from '../../bytes.js';
import { showable } from '../../text/display.js';
import { type PlaceTally, wantsSample } from './tally.js';

/** Shows bytes as they are. */
const asIs = (bytes: ByteString) => bytes;

/**
 * Notes how the surroundings of a value's first change look before and after it, while samples of the place are wanted.
 * @param shown how the bytes are to be read to be shown
 */
export function sampleChange(
  place: PlaceTally,
  value: ByteString,
  edits: readonly Edit[],
  shown: (bytes: ByteString) => ByteString = asIs,
  low = 0,
  high = value.length,
): void {
  if (edits.length === 0 || !wantsSample(place)) return;
  const first = edits.find(edit => edit.end - edit.start > 6) ?? edits[0]!;
  const from = Math.max(low, first.start - 30);
  // An edit of a whole long value is shown by its beginning.
  const to = Math.min(high, Math.max(first.start, Math.min(first.end, first.start + 200)) + 50);
  const line = (bytes: string) => showable(textOf(shown(asBytes(bytes))));
  /** A stretch around the match, and what becomes of it. */
  const around = (start: number, end: number) => {
    const inside = edits
      .filter(edit => edit !== first && edit.start >= start && edit.end <= end)
      .map(edit => ({ start: edit.start - start, end: edit.end - start, put: edit.put }));
    const bytes = asBytes(value.slice(start, end));
    return [line(bytes), line(applyEdits(bytes, inside))] as const;
  };
  const ahead = around(from, first.start);
  const tail = around(first.end, Math.max(first.end, to));
  const [begin, end] = [from > low ? '…' : '', to < high ? '…' : ''];
  const side = (which: 0 | 1, bytes: string) => {
    const text = line(bytes.slice(0, 200));
    const start = begin + ahead[which];
    return { whole: start + text + tail[which] + end, mark: { at: start.length, text } };
  };
  const before = side(0, value.slice(first.start, first.end));
  const after = side(1, first.put);
  place.samples.push({ before: before.whole, after: after.whole, found: before.mark, put: after.mark });
}
