import { applyEdits, asBytes, type ByteString, type Edit, growth } from '../../bytes.js';
import {
  editsInJsonString,
  jsonStrings,
  looksJson,
  looksJsonEscaped,
  openJsonString,
} from '../../json/strings.js';
import { type Counting, countings } from '../../serialized/charsets.js';
import { mendSerialized } from '../../serialized/mend.js';
import {
  isDamage,
  type LengthSpan,
  looksSerialized,
  readSerialized,
  type SerializedDamage,
  type SerializedValue,
} from '../../serialized/spans.js';
import type { Observer } from '../report/observer.js';
import { AnchorCursor } from '../terms/anchors.js';
import type { Rules } from '../terms/rules.js';
import { openBase64 } from './base64.js';
import { editsInText } from './text.js';

/**
 * What to change in one value so that old addresses become new ones, whatever carries them: text, PHP-serialized
 * values with their lengths, JSON, and any of these inside one another. A damaged value gives no edits and is
 * reported to the observer. What it says of a value depends on nothing but the value and the rules.
 */
export function editsInValue(value: ByteString, rules: Rules, observer: Observer): readonly Edit[] {
  return new Carried(rules, observer).edits(value, 0);
}

/** How deep values may be carried in one another, as JSON in serialized in JSON. */
const deepest = 100;

const sessionHead = /^[\w.:-]+\|(?:[sSaOC]:\+?\d+:|[bid]:[^;]{1,40};|N;)/;
const serializedInJson = /\\*"(?:[saO]:\d+:)/;

/**
 * What a value is, as far as rewriting it must know. A JSON text counts only when a serialized value is a string
 * in it; otherwise its escapes are forms that are found in text as they are.
 */
function carrierOf(value: string): 'serialized' | 'json' | 'mixed' | 'text' {
  if (looksSerialized(value)) return 'serialized';
  if (looksJson(value) && serializedInJson.test(value)) return 'json';
  return sessionHead.test(value.slice(0, 256)) ? 'mixed' : 'text';
}

/** Whether the text of a literal must be opened to be rewritten. Its start is the same escaped or not. */
export function needsOpening(s: string, start: number, end: number): boolean {
  if (looksSerialized(s, start)) return true;
  const head = s.slice(start, Math.min(end, start + 256));
  return looksJsonEscaped(head) ? serializedInJson.test(s.slice(start, end)) : sessionHead.test(head);
}

/** The digits of a span whose content grew; a plus sign that is before them is kept. */
export function lengthEdit(value: ByteString, span: LengthSpan, more: number): Edit {
  const written = value.slice(span.digitsStart, span.digitsEnd);
  const digits = String(Number(written) + more);
  const put = asBytes(written.startsWith('+') ? `+${digits}` : digits);
  return { start: span.digitsStart, end: span.digitsEnd, put };
}

/** Reads a serialized value whichever character set its lengths count bytes of. */
function readCounted(value: ByteString): { read: SerializedValue | SerializedDamage; counting?: Counting } {
  const read = readSerialized(value, 0, value.length);
  if (!isDamage(read)) return { read };
  for (const counting of countings(value)) {
    const other = readSerialized(value, 0, value.length, counting);
    if (!isDamage(other) && other.end === value.length) return { read: other, counting };
  }
  return { read };
}

/** How many bytes more the site counts after edits. */
function counted(value: ByteString, edits: readonly Edit[], counting: Counting): number {
  let bytes = 0;
  for (const { start, end, put } of edits)
    bytes += counting.count(put) - counting.count(value.slice(start, end));
  return bytes;
}

const embedded = () => /[sSaOC]:\+?\d+:["{]/g;

/** Follows a value into what it carries, and what that carries, and gives the edits of the whole. */
class Carried {
  private readonly rules: Rules;
  private readonly observer: Observer;

  constructor(rules: Rules, observer: Observer) {
    this.rules = rules;
    this.observer = observer;
  }

  edits(value: ByteString, depth: number): readonly Edit[] {
    const cursor = new AnchorCursor(value, this.rules.anchors);
    if (cursor.seekAny(0) === Number.POSITIVE_INFINITY) {
      if (!this.rules.mend || !looksSerialized(value)) return [];
    }
    switch (carrierOf(value)) {
      case 'serialized':
        return this.inSerialized(value, cursor, depth);
      case 'json':
        return this.inJson(value, cursor, depth);
      case 'mixed':
        return this.inMixed(value, cursor, depth);
      case 'text':
        return this.inText(cursor, 0, value.length, depth);
    }
  }

  private inText(cursor: AnchorCursor, start: number, end: number, depth: number): readonly Edit[] {
    const edits = editsInText(cursor, { start, end, backslashes: 1 }, this.rules, this.observer);
    if (cursor.seekEncoded(start) >= end) return edits;
    const encoded = this.inEncoded(cursor, start, end, depth);
    const apart = edits.filter(edit => !encoded.some(one => edit.start < one.end && one.start < edit.end));
    return [...apart, ...encoded].sort((a, b) => a.start - b.start);
  }

  /** What is in Base64 in a stretch of text: rewritten when asked, otherwise reported. */
  private inEncoded(cursor: AnchorCursor, start: number, end: number, depth: number): readonly Edit[] {
    const edits: Edit[] = [];
    const { s } = cursor;
    for (let at = cursor.seekEncoded(start); at < end; at = cursor.seekEncoded(at)) {
      const { open, end: after } = openBase64(s, start, end, at);
      at = after;
      if (!open || this.isTooDeep(open.value, depth)) continue;
      const pairs: number[] = [];
      const inside: Observer = { ...this.observer, matched: pair => pairs.push(pair), missed: () => {} };
      const inner = new Carried(this.rules, inside).edits(open.value, depth + 1);
      if (inner.length === 0) continue;
      for (const pair of pairs) {
        if (this.rules.openBase64) this.observer.matched(pair, 'base64');
        else this.observer.missed('in Base64', s, open.start, start, end);
      }
      if (this.rules.openBase64)
        edits.push({ start: open.start, end: open.end, put: open.write(applyEdits(open.value, inner)) });
    }
    return edits;
  }

  private inSerialized(value: ByteString, cursor: AnchorCursor, depth: number): readonly Edit[] {
    const { read, counting } = readCounted(value);
    if (isDamage(read)) return this.inDamaged(value, read, depth);
    const edits = this.inSpans(value, read.spans, cursor, depth, counting);
    return edits.concat(this.inText(cursor, read.end, value.length, depth));
  }

  /** A value that cannot be read is left, or, when asked, corrected first. */
  private inDamaged(value: ByteString, { cause, at }: SerializedDamage, depth: number): readonly Edit[] {
    const mended = this.rules.mend ? mendSerialized(value) : undefined;
    if (mended === undefined) {
      this.observer.damaged(cause, value, at);
      return [];
    }
    this.observer.mended();
    const put = applyEdits(mended, this.edits(mended, depth + 1));
    return [{ start: 0, end: value.length, put }];
  }

  private inSpans(
    value: ByteString,
    spans: readonly LengthSpan[],
    cursor: AnchorCursor,
    depth: number,
    counting?: Counting,
  ): Edit[] {
    const edits: Edit[] = [];
    for (const span of spans) {
      if (!this.isWanted(value, span, cursor)) continue;
      const inner = this.inSpan(value, span, cursor, depth);
      const more = counting ? counted(value, inner, counting) : growth(inner);
      if (more !== 0) edits.push(lengthEdit(value, span, more));
      for (const edit of inner) edits.push(edit);
    }
    return edits;
  }

  /** Whether anything in a string may have to be changed. */
  private isWanted(value: ByteString, { start, end }: LengthSpan, cursor: AnchorCursor): boolean {
    if (cursor.seekAny(start) < end) return true;
    return this.rules.mend && looksSerialized(value, start);
  }

  private inSpan(value: ByteString, span: LengthSpan, cursor: AnchorCursor, depth: number): readonly Edit[] {
    const { start, end, kind } = span;
    const content = asBytes(value.slice(start, end));
    if (kind !== 'C' && carrierOf(content) === 'text') return this.inText(cursor, start, end, depth);
    if (this.isTooDeep(content, depth)) return [];
    const inner =
      kind === 'C'
        ? this.inMixed(content, new AnchorCursor(content, this.rules.anchors), depth + 1)
        : this.edits(content, depth + 1);
    return inner.map(edit => ({ start: start + edit.start, end: start + edit.end, put: edit.put }));
  }

  /** Text with serialized values standing in it: a session (`name|value`), or a class's own payload. */
  private inMixed(value: ByteString, cursor: AnchorCursor, depth: number): readonly Edit[] {
    const parts: (readonly Edit[])[] = [];
    const heads = embedded();
    let from = 0;
    /** Bytes that may be read in vain, so that many false heads cannot make the work more than linear. */
    let patience = 8 * value.length;
    for (let found = heads.exec(value); found && patience > 0; found = heads.exec(value)) {
      const read = readSerialized(value, found.index, value.length);
      if (isDamage(read)) {
        patience -= read.at - found.index;
        continue;
      }
      parts.push(
        this.inText(cursor, from, found.index, depth),
        this.inSpans(value, read.spans, cursor, depth),
      );
      from = read.end;
      heads.lastIndex = from;
    }
    parts.push(this.inText(cursor, from, value.length, depth));
    return parts.flat();
  }

  private inJson(value: ByteString, cursor: AnchorCursor, depth: number): readonly Edit[] {
    const parts: (readonly Edit[])[] = [];
    for (const { start, end } of jsonStrings(value)) {
      if (cursor.seekAny(start) >= end) continue;
      const open = openJsonString(asBytes(value.slice(start, end)));
      if (carrierOf(open.value) === 'text') parts.push(this.inText(cursor, start, end, depth));
      else if (!this.isTooDeep(open.value, depth)) {
        parts.push(editsInJsonString(open, this.edits(open.value, depth + 1), start));
      }
    }
    return parts.flat();
  }

  /** What is carried deeper than anybody means it is left and reported. */
  private isTooDeep(content: ByteString, depth: number): boolean {
    if (depth < deepest) return false;
    this.observer.damaged('values are nested in one another too deeply', content, 0);
    return true;
  }
}
