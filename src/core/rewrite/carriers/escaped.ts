import type { Edit } from '../../bytes.js';
import { isDamage, readSerialized } from '../../serialized/spans.js';
import { bytesWritten, type EscapedText } from '../../sql/literal.js';
import type { Observer } from '../report/observer.js';
import type { AnchorCursor } from '../terms/anchors.js';
import type { Rules } from '../terms/rules.js';
import { editsInText } from './text.js';
import { lengthEdit, needsOpening } from './value.js';

/**
 * Edits of a serialized value that is escaped in the text of a literal, without opening it: its lengths are
 * followed where they are.
 * @returns undefined where that does not suffice: something is nested in it, or it is damaged
 */
export function editsInEscaped(
  cursor: AnchorCursor,
  start: number,
  end: number,
  text: EscapedText,
  rules: Rules,
  observer: Observer,
): Edit[] | undefined {
  const { s } = cursor;
  const read = readSerialized(s, start, end, text);
  if (isDamage(read) || read.end !== end) return undefined;
  const held = cursor.aside(() => read.spans.filter(span => cursor.seek(span.start) < span.end));
  if (held.some(span => needsOpening(s, span.start, span.end))) return undefined;
  const edits: Edit[] = [];
  for (const span of held) {
    const inner = editsInText(cursor, { start: span.start, end: span.end, backslashes: 2 }, rules, observer);
    let more = 0;
    for (const { start: from, end: to, put } of inner)
      more += bytesWritten(put) - bytesWritten(s.slice(from, to));
    if (more !== 0) edits.push(lengthEdit(s, span, more));
    for (const edit of inner) edits.push(edit);
  }
  return edits;
}
