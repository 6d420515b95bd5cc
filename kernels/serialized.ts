// PHP-serialized values that stand escaped in a literal of SQL, as src/core/serialized/spans.ts reads them. What is
// damaged, or anything but arrays, objects, strings and simple values, is left to that.
import { anchorIn, editsInText, growth } from './addresses';
import { backslash, colon, doubleQuote, isDigit, minus, percent, semicolon } from './bytes';
import { addLength, count, setLength } from './edits';
import { needsOpening } from './opening';

/** How deep arrays may be nested here. */
const deepest: i32 = 64;
const open = memory.data(4 * 64, 16);
const underscore: u8 = 0x5f;

let window: usize = 0;

// @ts-expect-error: decorators of functions are AssemblyScript's own.
@inline
function byteAt(at: i32): u8 {
  return load<u8>(window + at);
}

/** How many bytes write a double quote; 0 where none stands. */
function quoteAt(at: i32): i32 {
  if (byteAt(at) == doubleQuote) return 1;
  return byteAt(at) == backslash && byteAt(at + 1) == doubleQuote ? 2 : 0;
}

let number: i32 = 0;

/** Reads `:123:` into `number`; the offset after it, or -1. */
function lengthAt(from: i32): i32 {
  if (byteAt(from) != colon) return -1;
  let at = from + 1;
  number = 0;
  while (isDigit(byteAt(at)) && at - from < 10) number = 10 * number + <i32>(byteAt(at++) - 0x30);
  return at > from + 1 && byteAt(at) == colon ? at + 1 : -1;
}

/** Whether there is no backslash among sixty-four bytes. */
// @ts-expect-error: see above.
@inline
function isPlain(place: usize): bool {
  const escapes = i8x16.splat(0x5c);
  const some = v128.or(i8x16.eq(v128.load(place), escapes), i8x16.eq(v128.load(place, 16), escapes));
  const more = v128.or(i8x16.eq(v128.load(place, 32), escapes), i8x16.eq(v128.load(place, 48), escapes));
  return !v128.any_true(v128.or(some, more));
}

/** The offset after so many bytes of value, or -1 where that is in the middle of an escape. */
function skip(from: i32, bytes: i32, high: i32): i32 {
  const escapes = i8x16.splat(0x5c);
  let at = from;
  let left = bytes;
  while (left > 0) {
    // Mostly there is nothing for long.
    while (left >= 64 && at + 64 <= high && isPlain(window + at)) {
      at += 64;
      left -= 64;
    }
    const marks = i8x16.bitmask(i8x16.eq(v128.load(window + at), escapes));
    const plain = min(marks == 0 ? 16 : ctz(marks), min(left, high - at));
    at += plain;
    left -= plain;
    if (left == 0) break;
    if (at >= high) return -1;
    if (byteAt(at) != backslash) continue;
    const escaped = byteAt(at + 1);
    left -= escaped == percent || escaped == underscore ? 2 : 1;
    at += 2;
  }
  return left == 0 && at <= high ? at : -1;
}

/** The offset after `:…;` of a simple value; -1 where it is not of the usual kind. */
function endOfSimple(letter: u8, from: i32, high: i32): i32 {
  if (byteAt(from) != colon) return -1;
  let at = from + 1;
  if (byteAt(at) == minus && (letter == 0x69 || letter == 0x64)) at++;
  const digits = at;
  while (at < high && isDigit(byteAt(at))) at++;
  if (at == digits || (letter == 0x62 && (at > digits + 1 || byteAt(digits) > 0x31))) return -1;
  if (letter == 0x64 && byteAt(at) == 0x2e) {
    at++;
    while (at < high && isDigit(byteAt(at))) at++;
  }
  return at < high && at - from < 400 && byteAt(at) == semicolon ? at + 1 : -1;
}

/** The edits of one string, with that of its length. */
function editsInSpan(digits: i32, start: i32, end: i32, length: i32): bool {
  if (!anchorIn(start, end)) return true;
  if (needsOpening(window, start, end)) return false;
  const at = count;
  if (!addLength(digits, digits + digitsOf(length)) || !editsInText(start, end, 2, true)) return false;
  setLength(at, length + growth, growth != 0);
  return true;
}

function digitsOf(value: i32): i32 {
  let digits = 1;
  for (let rest = value / 10; rest > 0; rest /= 10) digits++;
  return digits;
}

/**
 * Adds the edits of a serialized value that takes up all of a stretch.
 * @returns false where it is left to others; edits may have been added then
 */
export function editsInSerialized(shift: usize, from: i32, high: i32): bool {
  window = shift;
  let depth = 0;
  let left = 1;
  let at = from;
  while (left > 0 || depth > 0) {
    if (at >= high) return false;
    if (left == 0) {
      if (byteAt(at++) != 0x7d) return false;
      left = load<i32>(open + 4 * <usize>(--depth));
      continue;
    }
    left--;
    const letter = byteAt(at);
    if (letter == 0x4e) {
      if (byteAt(at + 1) != semicolon) return false;
      at += 2;
    } else if (letter == 0x73) {
      const opening = lengthAt(at + 1);
      if (opening < 0 || quoteAt(opening) == 0) return false;
      const length = number;
      // Digits that are written otherwise than a number is, are left to others.
      if (opening - at - 3 != digitsOf(length)) return false;
      const start = opening + quoteAt(opening);
      const end = skip(start, length, high);
      if (end < 0 || end >= high) return false;
      const closing = quoteAt(end);
      if (closing == 0 || end + closing >= high || byteAt(end + closing) != semicolon) return false;
      if (!editsInSpan(at + 2, start, end, length)) return false;
      at = end + closing + 1;
    } else if (letter == 0x61 || letter == 0x4f) {
      let after = lengthAt(at + 1);
      if (letter == 0x4f) {
        if (after < 0 || quoteAt(after) == 0) return false;
        const end = skip(after + quoteAt(after), number, high);
        if (end < 0 || end >= high || quoteAt(end) == 0) return false;
        after = lengthAt(end + quoteAt(end));
      }
      if (after < 0 || after >= high || byteAt(after) != 0x7b || depth == deepest || number > 0xfffffff) return false;
      store<i32>(open + 4 * <usize>(depth++), left);
      left = 2 * number;
      at = after + 1;
    } else {
      if (letter != 0x69 && letter != 0x62 && letter != 0x64 && letter != 0x72 && letter != 0x52) return false;
      at = endOfSimple(letter, at + 1, high);
      if (at < 0) return false;
    }
  }
  return at == high;
}
