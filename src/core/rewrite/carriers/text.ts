import type { Edit } from '../../bytes.js';
import { matchAt, type Region } from '../match/match.js';
import type { Observer } from '../report/observer.js';
import type { AnchorCursor } from '../terms/anchors.js';
import type { Rules } from '../terms/rules.js';

const none: readonly Edit[] = [];

/** Edits of the old addresses in a stretch of text. The cursor is left after the stretch. */
export function editsInText(
  cursor: AnchorCursor,
  region: Region,
  rules: Rules,
  observer: Observer,
): readonly Edit[] {
  let edits: Edit[] | undefined;
  let from = region.start;
  while (cursor.seek(from) < region.end) {
    const { at, found } = cursor;
    from = at + found.length;
    if (from > region.end) break;
    const match = matchAt(cursor.s, region, at, found, rules);
    if (typeof match === 'string') {
      if (match !== 'no link') observer.missed(match, cursor.s, at, region.start, region.end);
      continue;
    }
    from = Math.max(from, match.end);
    if (cursor.s.startsWith(match.put, match.start) && match.put.length === match.end - match.start) continue;
    observer.matched(match.pair, match.form);
    edits ??= [];
    edits.push(match);
  }
  return edits ?? none;
}
