import { applyEdits, asBytes, type ByteString, type Edit, growth } from '../../bytes.js';
import { editsInJsonString, isEscaped, openJsonString } from '../../json/strings.js';
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
import { type Observer, unnoted } from '../report/observer.js';
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
  return new Carried(rules, observer).edits(value, { depth: 0, isHeld: false });
}

/** Where a value is. */
interface Level {
  /** How many values carry it. */
  readonly depth: number;
  /** Whether a string whose length fits holds it: what looks like a length in it is text to the site. */
  readonly isHeld: boolean;
}

/** How deep values may be carried in one another, as JSON in serialized in JSON. */
const deepest = 100;

/** A length before something in which an address may lie, its quote escaped or not. */
const lengthBefore = /[sSC]:\+?\d+:\\*"/;

/** What a value is, as far as rewriting it must know: all of it serialized, serialized values in text, or text. */
function carrierOf(value: string): 'serialized' | 'mixed' | 'text' {
  if (looksSerialized(value)) return 'serialized';
  return lengthBefore.test(value) ? 'mixed' : 'text';
}

/** Whether the text of a literal must be opened to be rewritten: whether lengths may be written in it. */
export function needsOpening(s: string, start: number, end: number): boolean {
  return looksSerialized(s, start) || lengthBefore.test(s.slice(start, end));
}

/** The digits of a span whose content grew; a plus sign that is before them is kept. */
export function lengthEdit(value: ByteString, span: LengthSpan, more: number): Edit {
  const written = value.slice(span.digitsStart, span.digitsEnd);
  const digits = String(Number(written) + more);
  const put = asBytes(written.startsWith('+') ? `+${digits}` : digits);
  return { start: span.digitsStart, end: span.digitsEnd, put };
}

interface Counted {
  readonly read: SerializedValue;
  /** How its lengths count, where they do not count the bytes that are here. */
  readonly counting?: Counting;
}

/** Reads a serialized value whichever character set its lengths count bytes of. @param whole whether it must end with `value` */
function readCounted(
  value: ByteString,
  at: number,
  others: () => readonly Counting[],
  whole: boolean,
): Counted | SerializedDamage {
  const read = readSerialized(value, at, value.length);
  if (!isDamage(read)) return { read };
  for (const counting of others()) {
    const other = readSerialized(value, at, value.length, counting);
    if (!isDamage(other) && (!whole || other.end === value.length)) return { read: other, counting };
  }
  return read;
}

/** How many bytes more the site counts after edits. */
function counted(value: ByteString, edits: readonly Edit[], counting: Counting): number {
  let bytes = 0;
  for (const { start, end, put } of edits)
    bytes += counting.count(put) - counting.count(value.slice(start, end));
  return bytes;
}

/** Where a serialized value may begin that holds others, or whose length is written. */
const embedded = () => /[sSaOC]:\+?\d+:(?:\\*"|\{)/g;

/** A string in text whose length does not fit: until its likely end, addresses in it are left. */
interface Misfit extends SerializedDamage {
  readonly start: number;
  readonly end: number;
}

function deeper({ depth, isHeld }: Level): Level {
  return { depth: depth + 1, isHeld };
}

function held({ depth }: Level): Level {
  return { depth: depth + 1, isHeld: true };
}

/** Follows a value into what it carries, and what that carries, and gives the edits of the whole. */
class Carried {
  private readonly rules: Rules;
  private readonly observer: Observer;

  constructor(rules: Rules, observer: Observer) {
    this.rules = rules;
    this.observer = observer;
  }

  edits(value: ByteString, level: Level): readonly Edit[] {
    const cursor = new AnchorCursor(value, this.rules.anchors);
    if (cursor.seekAny(0) === Number.POSITIVE_INFINITY) {
      if (!this.rules.mend || !looksSerialized(value)) return [];
    }
    switch (carrierOf(value)) {
      case 'serialized':
        return this.inSerialized(value, cursor, level);
      case 'mixed':
        return this.inMixed(value, cursor, level);
      case 'text':
        return this.inText(cursor, 0, value.length, level);
    }
  }

  private inText(cursor: AnchorCursor, start: number, end: number, level: Level): readonly Edit[] {
    const edits = editsInText(cursor, { start, end, backslashes: 1 }, this.rules, this.observer);
    if (cursor.seekEncoded(start) >= end) return edits;
    const encoded = this.inEncoded(cursor, start, end, level);
    const apart = edits.filter(edit => !encoded.some(one => edit.start < one.end && one.start < edit.end));
    return [...apart, ...encoded].sort((a, b) => a.start - b.start);
  }

  /** What is in Base64 in a stretch of text: rewritten when asked, otherwise reported. */
  private inEncoded(cursor: AnchorCursor, start: number, end: number, level: Level): readonly Edit[] {
    const edits: Edit[] = [];
    const { s } = cursor;
    for (let at = cursor.seekEncoded(start); at < end; at = cursor.seekEncoded(at)) {
      const { open, end: after } = openBase64(s, start, end, at);
      at = after;
      if (!open || this.isTooDeep(open.value, level)) continue;
      const pairs: number[] = [];
      const inside: Observer = { ...this.observer, matched: pair => pairs.push(pair), missed: () => {} };
      const inner = new Carried(this.rules, inside).edits(open.value, deeper(level));
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

  private inSerialized(value: ByteString, cursor: AnchorCursor, level: Level): readonly Edit[] {
    const found = readCounted(value, 0, () => countings(value), true);
    if ('cause' in found)
      return beginsSerialized(value)
        ? this.inMixed(value, cursor, level)
        : this.inDamaged(value, found, level);
    const edits = this.inSpans(value, found, cursor, level);
    return edits.concat(this.inMixed(value, cursor, level, found.read.end));
  }

  /** A value that cannot be read is left, or, when asked, corrected first. */
  private inDamaged(value: ByteString, { cause, at }: SerializedDamage, level: Level): readonly Edit[] {
    const mended = this.rules.mend ? mendSerialized(value) : undefined;
    if (mended === undefined) {
      this.observer.damaged(cause, value, at);
      return [];
    }
    this.observer.mended();
    const put = applyEdits(mended, this.edits(mended, deeper(level)));
    return [{ start: 0, end: value.length, put }];
  }

  private inSpans(
    value: ByteString,
    { read, counting }: Counted,
    cursor: AnchorCursor,
    level: Level,
  ): Edit[] {
    const edits: Edit[] = [];
    for (const span of read.spans) {
      if (!this.isWanted(value, span, cursor)) continue;
      const inner = this.inSpan(value, span, cursor, level);
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

  private inSpan(value: ByteString, span: LengthSpan, cursor: AnchorCursor, level: Level): readonly Edit[] {
    const { start, end, kind } = span;
    const content = asBytes(value.slice(start, end));
    if (kind !== 'C' && carrierOf(content) === 'text') return this.inText(cursor, start, end, level);
    if (this.isTooDeep(content, level)) return [];
    const inner =
      kind === 'C'
        ? this.inMixed(content, new AnchorCursor(content, this.rules.anchors), held(level))
        : this.edits(content, held(level));
    return inner.map(edit => ({ start: start + edit.start, end: start + edit.end, put: edit.put }));
  }

  /**
   * Text with serialized values in it, at any offset and escaped or not: a session (`name|value`), a class's own payload,
   * what has a header or a comment before it, JSON. Those that can be read are followed; a string whose length does not
   * fit is left.
   * @param from where the text begins
   */
  private inMixed(value: ByteString, cursor: AnchorCursor, level: Level, from = 0): readonly Edit[] {
    const parts: (readonly Edit[])[] = [];
    const misfits = new Misfits(value);
    const heads = embedded();
    heads.lastIndex = from;
    let others: readonly Counting[] | undefined;
    const otherCountings = () => {
      others ??= countings(value);
      return others;
    };
    let at = from;
    /** Bytes that may be read in vain, so that many false heads cannot make the work more than linear. */
    let patience = 8 * value.length;
    for (let head = heads.exec(value); head && cursor.isAnyFrom(head.index); head = heads.exec(value)) {
      const { index } = head;
      // To read one string takes no time.
      if (patience <= 0 && head[0][0] !== 's') continue;
      const found = readCounted(value, index, patience > 0 ? otherCountings : () => [], false);
      if (!('cause' in found)) {
        parts.push(this.inTextBut(misfits, cursor, at, index, level));
        parts.push(this.inSpans(value, found, cursor, level));
        at = found.read.end;
      } else {
        patience -= found.at - index;
        const escaped = patience > 0 ? escapedFrom(value, index) : undefined;
        const inner = escaped && this.inEscaped(value, escaped, level);
        if (inner) {
          parts.push(this.inTextBut(misfits, cursor, at, index, level), inner);
          at = escaped.end;
        } else {
          if (escaped) patience -= escaped.end - index;
          if (!level.isHeld && lengthBefore.test(head[0])) misfits.add(found, heads.lastIndex);
          continue;
        }
      }
      heads.lastIndex = at;
    }
    parts.push(this.inTextBut(misfits, cursor, at, value.length, level));
    return parts.flat();
  }

  /** Edits of what is escaped as in a JSON string and begins as a serialized value; undefined where it is none. */
  private inEscaped(value: ByteString, { start, end }: Bounds, level: Level): readonly Edit[] | undefined {
    const open = openJsonString(asBytes(value.slice(start, end)));
    if (!beginsSerialized(open.value)) {
      // What takes up a string of JSON is a value of its own, and is left as a whole where it is damaged.
      const isWhole = value[start - 1] === '"' && !isEscaped(value, 0, start - 1);
      if (
        !isWhole ||
        !this.isAddressIn(new AnchorCursor(open.value, this.rules.anchors), 0, open.value.length)
      )
        return undefined;
    }
    if (this.isTooDeep(open.value, level)) return [];
    return editsInJsonString(open, this.edits(open.value, deeper(level)), start);
  }

  /** Text in which some stretches are left, since lengths in it would have to be put right that do not fit. */
  private inTextBut(
    misfits: Misfits,
    cursor: AnchorCursor,
    from: number,
    to: number,
    level: Level,
  ): readonly Edit[] {
    const parts: (readonly Edit[])[] = [];
    let at = from;
    for (const { start, end, cause, at: place } of misfits.takeUntil(to)) {
      if (end <= at) continue;
      const begin = Math.max(start, at);
      parts.push(this.inText(cursor, at, begin, level));
      at = Math.min(end, to);
      if (this.isAddressIn(cursor, begin, at)) this.observer.damaged(cause, cursor.s, place);
    }
    parts.push(this.inText(cursor, at, to, level));
    return parts.flat();
  }

  private isAddressIn(cursor: AnchorCursor, start: number, end: number): boolean {
    return editsInText(cursor, { start, end, backslashes: 1 }, this.rules, unnoted).length > 0;
  }

  /** What is carried deeper than anybody means it is left and reported. */
  private isTooDeep(content: ByteString, level: Level): boolean {
    if (level.depth < deepest) return false;
    this.observer.damaged('values are nested in one another too deeply', content, 0);
    return true;
  }
}

interface Bounds {
  readonly start: number;
  readonly end: number;
}

/** Whether a serialized value can be read at the begin of another, however often it is escaped. */
function beginsSerialized(value: ByteString): boolean {
  if (!('cause' in readCounted(value, 0, () => countings(value), false))) return true;
  const escaped = escapedFrom(value, 0);
  return (
    escaped !== undefined && beginsSerialized(openJsonString(asBytes(value.slice(0, escaped.end))).value)
  );
}

/** What begins at an offset and ends with the string of JSON that it is in, where its first quote is escaped. */
function escapedFrom(value: string, start: number): Bounds | undefined {
  const quote = value.indexOf('"', start);
  if (quote < 0 || !isEscaped(value, start, quote)) return undefined;
  let end = quote;
  do end = value.indexOf('"', end + 1);
  while (end >= 0 && isEscaped(value, start, end));
  return { start, end: end < 0 ? value.length : end };
}

/** The strings of a text whose lengths do not fit, in the order of their starts. */
class Misfits {
  private readonly value: string;
  private readonly all: Misfit[] = [];
  private taken = 0;
  /** The end of a string that was looked for last. */
  private end = -1;

  constructor(value: string) {
    this.value = value;
  }

  /** @param start where the string begins */
  add(damage: SerializedDamage, start: number): void {
    if (this.end < start) this.end = this.endFrom(start);
    this.all.push({ ...damage, start, end: this.end });
  }

  /** Those that begin before an offset and were not taken yet. */
  takeUntil(to: number): readonly Misfit[] {
    const from = this.taken;
    while (this.taken < this.all.length && this.all[this.taken]!.start < to) this.taken++;
    return this.all.slice(from, this.taken);
  }

  private endFrom(start: number): number {
    const end = this.value.indexOf('";', start);
    if (end >= 0) return end;
    const quote = this.value.indexOf('"', start);
    return quote >= 0 ? quote : this.value.length;
  }
}
