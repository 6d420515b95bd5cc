// Whether a value may carry others: what `needsOpening` of src/core/rewrite/value.ts says, and more often "perhaps".
import { backslash, colon, doubleQuote, fullStop, isWord, minus, semicolon, space } from './bytes';

/** Which bytes a name may have that is before a value of a session. */
const nameBytes = memory.data(256, 16);
for (let byte = 0; byte < 256; byte++)
  store<u8>(nameBytes + byte, <u8>(isWord(<u8>byte) || byte == fullStop || byte == colon || byte == minus));

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

/** Whether a stretch may begin as JSON does, or as a session does. */
export function mayHoldOthers(window: usize, start: i32, end: i32): bool {
  let at = start;
  while (at < end) {
    const byte = load<u8>(window + at);
    if ((byte >= 0x09 && byte <= 0x0d) || byte == space || byte == 0xa0) at++;
    else if (byte == backslash && at + 1 < end && isBlankLetter(load<u8>(window + at, 1))) at += 2;
    else break;
  }
  if (at < end && load<u8>(window + at) == backslash) at++;
  if (at < end) {
    const byte = load<u8>(window + at);
    if (byte == doubleQuote || byte == 0x5b || byte == 0x7b) return true;
  }
  at = start;
  while (at < end && isNameByte(load<u8>(window + at))) at++;
  return at < end && at > start && load<u8>(window + at) == 0x7c;
}

export function needsOpening(window: usize, start: i32, end: i32): bool {
  return mayBeSerialized(window, start, end) || mayHoldOthers(window, start, end);
}

/** The letters of escaped line ends and tabs. */
function isBlankLetter(byte: u8): bool {
  return byte == 0x6e || byte == 0x72 || byte == 0x74;
}

// @ts-expect-error: decorators of functions are AssemblyScript's own.
@inline
function isNameByte(byte: u8): bool {
  return load<u8>(nameBytes + byte) != 0;
}
