import { asBytes, type ByteString, type Edit, growth } from '../bytes.js';
import { editsInJsonString, jsonStrings, looksJson, openJsonString } from '../json/strings.js';
import { isDamage, type LengthSpan, looksSerialized, readSerialized } from '../serialized/spans.js';
import { bytesWritten, type EscapedText } from '../sql/literal.js';
import { matchAt, type Region } from './match.js';
import type { Rules } from './rules.js';
import type { Observer } from './tally.js';

const none: readonly Edit[] = [];
const deepest = 100;

/** Goes from anchor to anchor in a string, in rising order. */
interface Anchors {
  readonly s: ByteString;
  /** Offset of the anchor it stands at, or Infinity after the last one. */
  readonly at: number;
  readonly found: string;
  /** Moves to the first anchor at or after an offset, if it stands before that. */
  seek(from: number): number;
}

/** Looks for anchors in a string, remembering the one it stands at. */
export class AnchorCursor implements Anchors {
  at = -1;
  found = '';
  readonly s: ByteString;
  private readonly rules: Rules;
  /** The next host or path, and the next place for each of the starts of links without their host. */
  private readonly named = { at: -1, found: '' };
  private readonly roots: { readonly start: string; at: number }[];

  constructor(s: ByteString, rules: Rules) {
    this.s = s;
    this.rules = rules;
    this.roots = rules.rootStarts.map(start => ({ start, at: -1 }));
  }

  seek(from: number): number {
    if (this.at >= from) return this.at;
    if (this.named.at < from) this.seekNamed(from);
    this.at = this.named.at;
    this.found = this.named.found;
    for (const root of this.roots) {
      // The anchor is the segment; the slash before it may be escaped.
      if (root.at < from) {
        const next = this.s.indexOf(root.start, from - 1);
        root.at = next < 0 ? Number.POSITIVE_INFINITY : next + 1;
      }
      if (root.at < this.at) {
        this.at = root.at;
        this.found = root.start.slice(1);
      }
    }
    return this.at;
  }

  private seekNamed(from: number): void {
    const { anchors } = this.rules;
    anchors.lastIndex = from;
    const found = anchors.exec(this.s);
    this.named.at = found ? found.index : Number.POSITIVE_INFINITY;
    this.named.found = found ? found[0] : '';
  }
}

/** The anchors of a stretch, looked for once and gone through as often as needed. */
class KnownAnchors implements Anchors {
  readonly s: ByteString;
  private readonly places: { at: number; found: string }[] = [];
  private index = 0;

  constructor(cursor: AnchorCursor, start: number, end: number) {
    this.s = cursor.s;
    for (let at = cursor.seek(start); at < end; at = cursor.seek(at + 1))
      this.places.push({ at, found: cursor.found });
  }

  get at(): number {
    return this.places[this.index]?.at ?? Number.POSITIVE_INFINITY;
  }

  get found(): string {
    return this.places[this.index]?.found ?? '';
  }

  seek(from: number): number {
    while (this.at < from) this.index++;
    return this.at;
  }

  rewind(): void {
    this.index = 0;
  }
}

/**
 * What to change in one value so that old addresses become new ones, whatever carries them: text, PHP-serialized
 * values with their lengths, JSON, and any of these inside one another. A damaged value gives no edits and is
 * told to the observer. What it says of a value depends on nothing but the value and the rules.
 */
export function editsInValue(value: ByteString, rules: Rules, observer: Observer): readonly Edit[] {
  return editsAtDepth(value, rules, observer, 0);
}

function editsAtDepth(value: ByteString, rules: Rules, observer: Observer, depth: number): readonly Edit[] {
  const cursor = new AnchorCursor(value, rules);
  if (cursor.seek(0) === Number.POSITIVE_INFINITY) return none;
  if (depth > deepest) {
    observer.damaged('values are nested in one another too deeply', value, cursor.at);
    return none;
  }
  const carrier = carrierOf(value);
  if (carrier === 'serialized') return editsInSerialized(value, cursor, rules, observer, depth);
  if (carrier === 'json') return editsInJson(value, cursor, rules, observer, depth);
  if (carrier === 'mixed') return editsInMixed(value, cursor, rules, observer, depth);
  return editsInText(cursor, { start: 0, end: value.length, backslashes: 1 }, rules, observer);
}

const sessionHead = /^[\w.:-]+\|(?:[sSaOC]:\+?\d+:|[bid]:[^;]{1,40};|N;)/;
const serializedInJson = /\\*"(?:[saO]:\d+:)/;

/**
 * What a value is, as far as rewriting it must know. A JSON text counts only when a serialized value is a string
 * in it; otherwise its escapes are forms that are found in text as they stand.
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
  return looksJson(head) ? serializedInJson.test(s.slice(start, end)) : sessionHead.test(head);
}

/** Edits of the old addresses in a stretch of text. The cursor is left after the stretch. */
export function editsInText(
  cursor: Anchors,
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

function editsInSerialized(
  value: ByteString,
  cursor: AnchorCursor,
  rules: Rules,
  observer: Observer,
  depth: number,
): readonly Edit[] {
  const read = readSerialized(value, 0, value.length);
  if (isDamage(read)) {
    observer.damaged(read.cause, value, read.at);
    return none;
  }
  const edits = editsInSpans(value, read.spans, cursor, rules, observer, depth);
  if (cursor.seek(read.end) < value.length) {
    edits.push(
      ...editsInText(cursor, { start: read.end, end: value.length, backslashes: 1 }, rules, observer),
    );
  }
  return edits;
}

function editsInSpans(
  value: ByteString,
  spans: readonly LengthSpan[],
  cursor: AnchorCursor,
  rules: Rules,
  observer: Observer,
  depth: number,
): Edit[] {
  const edits: Edit[] = [];
  for (const span of spans) {
    if (cursor.seek(span.start) === Number.POSITIVE_INFINITY) break;
    if (cursor.at >= span.end) continue;
    const inner = editsInSpan(value, span, cursor, rules, observer, depth);
    const more = growth(inner);
    if (more !== 0) edits.push(lengthEdit(value, span, more));
    for (const edit of inner) edits.push(edit);
  }
  return edits;
}

function editsInSpan(
  value: ByteString,
  span: LengthSpan,
  cursor: AnchorCursor,
  rules: Rules,
  observer: Observer,
  depth: number,
): readonly Edit[] {
  const { start, end, kind } = span;
  const content = asBytes(value.slice(start, end));
  const carrier = kind === 'C' ? 'mixed' : carrierOf(content);
  if (carrier === 'text') return editsInText(cursor, { start, end, backslashes: 1 }, rules, observer);
  const inner =
    kind === 'C'
      ? editsInMixed(content, new AnchorCursor(content, rules), rules, observer, depth + 1)
      : editsAtDepth(content, rules, observer, depth + 1);
  return inner.map(edit => ({ start: start + edit.start, end: start + edit.end, put: edit.put }));
}

/**
 * Edits of a serialized value that stands escaped in the text of a literal, without opening it: its lengths are
 * followed where they stand.
 * @returns undefined where it cannot be told so: something is nested in it, or it is damaged
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
  const anchors = new KnownAnchors(cursor, start, end);
  const held = read.spans.filter(span => anchors.seek(span.start) < span.end);
  if (held.some(span => carrierOf(s.slice(span.start, span.end)) !== 'text')) return undefined;
  anchors.rewind();
  const edits: Edit[] = [];
  for (const span of held) {
    const inner = editsInText(anchors, { start: span.start, end: span.end, backslashes: 2 }, rules, observer);
    let more = 0;
    for (const { start: from, end: to, put } of inner)
      more += bytesWritten(put) - bytesWritten(s.slice(from, to));
    if (more !== 0) edits.push(lengthEdit(s, span, more));
    for (const edit of inner) edits.push(edit);
  }
  return edits;
}

/** The digits of a span whose content grew; a plus sign that stands before them is kept. */
function lengthEdit(value: ByteString, span: LengthSpan, more: number): Edit {
  const written = value.slice(span.digitsStart, span.digitsEnd);
  const digits = String(Number(written) + more);
  const put = asBytes(written.startsWith('+') ? `+${digits}` : digits);
  return { start: span.digitsStart, end: span.digitsEnd, put };
}

const embedded = /[sSaOC]:\+?\d+:["{]/g;

/** Text with serialized values standing in it: a session (`name|value`), or a class's own payload. */
function editsInMixed(
  value: ByteString,
  cursor: AnchorCursor,
  rules: Rules,
  observer: Observer,
  depth: number,
): readonly Edit[] {
  const edits: Edit[] = [];
  let from = 0;
  /** Bytes that may be read in vain, so that many false heads cannot make the work more than linear. */
  let patience = 8 * value.length;
  embedded.lastIndex = 0;
  for (let found = embedded.exec(value); found && patience > 0; found = embedded.exec(value)) {
    const at = found.index;
    const read = readSerialized(value, at, value.length);
    if (isDamage(read)) {
      patience -= read.at - at;
      continue;
    }
    edits.push(...editsInText(cursor, { start: from, end: at, backslashes: 1 }, rules, observer));
    edits.push(...editsInSpans(value, read.spans, cursor, rules, observer, depth));
    from = read.end;
    embedded.lastIndex = from;
  }
  edits.push(...editsInText(cursor, { start: from, end: value.length, backslashes: 1 }, rules, observer));
  return edits;
}

function editsInJson(
  value: ByteString,
  cursor: AnchorCursor,
  rules: Rules,
  observer: Observer,
  depth: number,
): readonly Edit[] {
  const edits: Edit[] = [];
  for (const { start, end } of jsonStrings(value)) {
    if (cursor.seek(start) === Number.POSITIVE_INFINITY) break;
    if (cursor.at >= end) continue;
    const open = openJsonString(asBytes(value.slice(start, end)));
    const inner =
      carrierOf(open.value) === 'text'
        ? editsInText(cursor, { start, end, backslashes: 1 }, rules, observer)
        : editsInJsonString(open, editsAtDepth(open.value, rules, observer, depth + 1), start);
    for (const edit of inner) edits.push(edit);
  }
  return edits;
}
