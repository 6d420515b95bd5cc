// Whether a value may carry others: what `needsOpening` of src/core/rewrite/carriers/value.ts says, and more often "perhaps".
import { backslash, colon, doubleQuote, isDigit, plus, semicolon } from './bytes';

/** Whether a serialized value may begin here. */
export function mayBeSerialized(window: usize, start: i32, end: i32): bool {
  if (start + 1 >= end) return false;
  const second = load<u8>(window + start, 1);
  if (second != colon && second != semicolon) return false;
  const letter = load<u8>(window + start) | 0x20;
  return (
    letter == 0x61 ||
    letter == 0x62 ||
    letter == 0x63 ||
    letter == 0x64 ||
    letter == 0x65 ||
    letter == 0x69 ||
    letter == 0x6e ||
    letter == 0x6f ||
    letter == 0x72 ||
    letter == 0x73
  );
}

/** Whether this colon ends a length that is written before a string, as `s:12:"` or `s:12:\"`. */
function endsLength(window: usize, colonAt: i32, start: i32, end: i32): bool {
  let at = colonAt + 1;
  while (at < end && load<u8>(window + at) == backslash) at++;
  if (at >= end || load<u8>(window + at) != doubleQuote) return false;
  at = colonAt - 1;
  while (at > start && isDigit(load<u8>(window + at))) at--;
  if (at == colonAt - 1) return false;
  if (at > start && load<u8>(window + at) == plus) at--;
  if (at <= start || load<u8>(window + at) != colon) return false;
  const letter = load<u8>(window + at - 1);
  return letter == 0x73 || letter == 0x53 || letter == 0x43;
}

/** Whether lengths of strings may be written in a stretch: a colon before a quote, or before what escapes one. */
export function holdsLengths(window: usize, start: i32, end: i32): bool {
  const colons = i8x16.splat(0x3a);
  const quotes = i8x16.splat(0x22);
  const escapes = i8x16.splat(0x5c);
  for (let at = start; at < end; at += 16) {
    const next = v128.load(window + at, 1);
    const quoted = v128.or(i8x16.eq(next, quotes), i8x16.eq(next, escapes));
    let marks = i8x16.bitmask(v128.and(i8x16.eq(v128.load(window + at), colons), quoted));
    for (; marks != 0; marks &= marks - 1) if (endsLength(window, at + ctz(marks), start, end)) return true;
  }
  return false;
}

export function needsOpening(window: usize, start: i32, end: i32): bool {
  return mayBeSerialized(window, start, end) || holdsLengths(window, start, end);
}
