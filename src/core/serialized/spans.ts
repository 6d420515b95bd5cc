/**
 * A run of bytes inside a PHP-serialized value whose length is written before it.
 * The format is that of PHP's serialize(): https://www.php.net/manual/en/function.serialize.php
 */
export interface LengthSpan {
  /** Where the digits of the length stand. */
  readonly digitsStart: number;
  readonly digitsEnd: number;
  /** The content, without its quotes or braces. */
  readonly start: number;
  readonly end: number;
  /** `s` a string or array key, `S` one with escaped bytes, `C` a class's own payload. */
  readonly kind: 's' | 'S' | 'C';
}

/** What was read: every span in order of its start, and where the value ends. */
export interface SerializedValue {
  readonly spans: readonly LengthSpan[];
  readonly end: number;
}

/** Why a value that looks serialized cannot be read, and where. */
export interface SerializedDamage {
  readonly at: number;
  readonly cause: string;
}

const head = /(?:a:\+?\d+:\{|[sSOCE]:\+?\d+:\\*"|[bi]:[+-]?\d+;|d:[^;"]{1,64};|[rR]:\d+;|N;)/y;

/**
 * Whether a serialized value seems to begin at an offset, its quotes escaped or not. What seems so and cannot be
 * read is damaged.
 */
export function looksSerialized(s: string, at = 0): boolean {
  head.lastIndex = at;
  return head.test(s);
}

const deepest = 200_000;

/** How the bytes that a length counts are written where they are. */
export interface Writing {
  /** Offset after so many bytes of value. */
  skip(start: number, bytes: number): number;
  /** How many bytes write a double quote at an offset; 0 where none is. */
  quoteAt(at: number): number;
}

/**
 * Reads one serialized value without building it; nothing is instantiated. Nesting is followed with a stack of
 * counts, not by recursion, and work is linear in the length.
 * @param writing given where the value is escaped in something else; `S:` and `C:` are then not read
 */
export function readSerialized(
  s: string,
  at: number,
  high: number,
  writing?: Writing,
): SerializedValue | SerializedDamage {
  const spans: LengthSpan[] = [];
  /** Values still to come at each open level; a key counts as a value. */
  const open: number[] = [];
  let left = 1;
  let i = at;
  const damage = (cause: string): SerializedDamage => ({ at: i, cause });
  const quoteAt = (offset: number) =>
    writing ? writing.quoteAt(offset) : s.charCodeAt(offset) === 0x22 ? 1 : 0;

  for (;;) {
    while (left === 0) {
      const outer = open.pop();
      if (outer === undefined) return { spans, end: i };
      if (i >= high || s.charCodeAt(i) !== 0x7d) return damage('a closing brace is missing');
      i++;
      left = outer;
    }
    left--;
    if (i >= high) return damage('the value ends too early');
    const letter = s[i];
    switch (letter) {
      case 'N':
        if (s.charCodeAt(i + 1) !== 0x3b) return damage('a null without its semicolon');
        i += 2;
        break;
      case 'b':
      case 'i':
      case 'd':
      case 'r':
      case 'R': {
        const end = s.indexOf(';', i + 2);
        if (end < 0 || end >= high || end - i > 400 || !scalar[letter].test(s.slice(i + 1, end))) {
          return damage(`a malformed ${letter}`);
        }
        i = end + 1;
        break;
      }
      case 's':
      case 'S':
      case 'E': {
        const length = readLength(s, i, high);
        const opening = length ? quoteAt(length.after) : 0;
        if (!length || opening === 0 || (writing && letter === 'S')) return damage(`a malformed ${letter}`);
        const start = length.after + opening;
        const end =
          letter === 'S'
            ? endOfEscaped(s, start, length.value, high)
            : writing
              ? writing.skip(start, length.value)
              : start + length.value;
        const closing = end < high ? quoteAt(end) : 0;
        if (closing === 0 || end + closing >= high || s.charCodeAt(end + closing) !== 0x3b) {
          return damage('a length that is not that of its string');
        }
        if (letter !== 'E') {
          spans.push({ digitsStart: i + 2, digitsEnd: length.after - 1, start, end, kind: letter });
        }
        i = end + closing + 1;
        break;
      }
      case 'a': {
        const count = readLength(s, i, high);
        if (!count || s.charCodeAt(count.after) !== 0x7b) return damage('a malformed array');
        i = count.after + 1;
        open.push(left);
        left = 2 * count.value;
        break;
      }
      case 'O':
      case 'C': {
        const name = readLength(s, i, high);
        const opening = name ? quoteAt(name.after) : 0;
        if (!name || opening === 0 || (writing && letter === 'C')) return damage('a malformed object');
        const nameStart = name.after + opening;
        const nameEnd = writing ? writing.skip(nameStart, name.value) : nameStart + name.value;
        const closing = nameEnd < high ? quoteAt(nameEnd) : 0;
        if (closing === 0) return damage('a class name of another length');
        const count = readLength(s, nameEnd + closing - 1, high);
        if (!count || s.charCodeAt(count.after) !== 0x7b) return damage('a malformed object');
        const start = count.after + 1;
        if (letter === 'O') {
          i = start;
          open.push(left);
          left = 2 * count.value;
          break;
        }
        const end = start + count.value;
        if (!(end < high) || s.charCodeAt(end) !== 0x7d) return damage('a payload of another length');
        spans.push({ digitsStart: nameEnd + closing + 1, digitsEnd: count.after - 1, start, end, kind: 'C' });
        i = end + 1;
        break;
      }
      default:
        return damage('an unknown type letter');
    }
    if (i > high) return damage('the value ends too early');
    if (open.length > deepest) return damage('nested too deeply');
  }
}

export function isDamage(value: SerializedValue | SerializedDamage): value is SerializedDamage {
  return 'cause' in value;
}

const scalar = {
  b: /^:[01]$/,
  i: /^:[+-]?\d+$/,
  d: /^:(?:[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?|-?INF|NAN)$/,
  r: /^:\d+$/,
  R: /^:\d+$/,
};

/** The number in `x:123:` that begins at `at`, and the offset after its second colon. */
function readLength(s: string, at: number, high: number): { value: number; after: number } | undefined {
  if (s.charCodeAt(at + 1) !== 0x3a) return undefined;
  let i = at + 2;
  if (s.charCodeAt(i) === 0x2b) i++;
  const from = i;
  let value = 0;
  for (; i < high; i++) {
    const digit = s.charCodeAt(i) - 0x30;
    if (digit < 0 || digit > 9) break;
    value = value * 10 + digit;
  }
  if (i === from || i - from > 20 || s.charCodeAt(i) !== 0x3a) return undefined;
  return { value, after: i + 1 };
}

/** In an `S:` string `\xx` writes one byte, so its length counts fewer bytes than are there. */
function endOfEscaped(s: string, start: number, length: number, high: number): number {
  let i = start;
  for (let left = length; left > 0 && i < high; left--) i += s.charCodeAt(i) === 0x5c ? 3 : 1;
  return i < start + length ? Number.NaN : i;
}
