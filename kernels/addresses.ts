// The close look at old addresses in text, for the ways in which nearly all are written: with a scheme, with plain or
// escaped slashes, without a port. What is anything else is left to src/core/rewrite/match.ts, whose rules these are.
import {
  ampersand,
  backslash,
  colon,
  comma,
  doubleQuote,
  equals,
  fullStop,
  isWord,
  lineFeed,
  minus,
  openBracket,
  percent,
  semicolon,
  singleQuote,
  slash,
  space,
  tilde,
} from './bytes';
import { addAddress } from './edits';

/** What an anchor is; `CommonAddresses` says the same. Any other is not looked at here. */
const host: u32 = 1;
const path: u32 = 2;
const root: u32 = 3;
/** Of each anchor: its kind, its bytes, where its addresses are described, and how many. */
const anchorBytes: usize = 16;
/**
 * Of each address: where its path is and how long, its pair, and where what is put in its place is and how long, for
 * each number of backslashes before a slash.
 */
const addressBytes: usize = 44;
const putsAt: usize = 12;
/** The length of what is put for an address that stays as it is. */
const kept: i32 = -1;
/** More backslashes before a slash are not looked at here. */
const deepest: i32 = 3;

let window: usize = 0;
let table: usize = 0;
let anchors: usize = 0;
let anchorCount: i32 = 0;
/** Up to where the anchors were gone through. */
export let next: i32 = 0;
/** So many bytes more there are in a stretch of text after its edits. */
export let growth: i32 = 0;

/**
 * @param shift the address of the window's first byte
 * @param known what is known of anchors and addresses
 * @param places where the anchors in the window stand, as `find` gives them
 */
export function lookAt(shift: usize, known: usize, places: usize, count: i32, from: i32): void {
  window = shift;
  table = known;
  anchors = places;
  anchorCount = count;
  next = from;
}

/** Goes back to an anchor. */
export function goBackTo(anchor: i32): void {
  next = anchor;
}

// @ts-expect-error: decorators of functions are AssemblyScript's own.
@inline
function byteAt(at: i32): u8 {
  return load<u8>(window + at);
}

// @ts-expect-error: see above.
@inline
function placeOf(anchor: i32): i32 {
  return load<i32>(anchors + 8 * <usize>anchor);
}

// @ts-expect-error: see above.
@inline
function told(anchor: i32): usize {
  return table + anchorBytes * <usize>load<u32>(anchors + 8 * <usize>anchor, 4);
}

/** Whether all anchors from here to an offset are of kinds that are looked at here. */
export function areCommon(high: i32): bool {
  for (let i = next; i < anchorCount && placeOf(i) < high; i++) if (load<u32>(told(i)) == 0) return false;
  return true;
}

/** Whether an anchor is in a stretch. What is before the stretch is skipped. */
export function anchorIn(low: i32, high: i32): bool {
  while (next < anchorCount && placeOf(next) < low) next++;
  return next < anchorCount && placeOf(next) < high;
}

/** The offset before the letters of a scheme that end before its colon, or -1. */
function schemeBefore(low: i32, end: i32): i32 {
  let at = end;
  if (at > low && (byteAt(at - 1) | 0x20) == 0x73) at--;
  if (at - low < 4) return -1;
  const isHttp =
    (byteAt(at - 4) | 0x20) == 0x68 &&
    (byteAt(at - 3) | 0x20) == 0x74 &&
    (byteAt(at - 2) | 0x20) == 0x74 &&
    (byteAt(at - 1) | 0x20) == 0x70;
  return isHttp ? at - 4 : -1;
}

/** The offset after a path that begins here with slashes of so many backslashes; -1 for no, -2 for perhaps. */
function endOfPath(from: i32, high: i32, bytes: usize, size: i32, depth: i32): i32 {
  let at = from;
  for (let i = 0; i < size; i++) {
    const wanted = load<u8>(bytes + i);
    if (wanted == slash) {
      if (at + depth >= high) return -1;
      for (let d = 0; d < depth; d++) if (byteAt(at + d) != backslash) return -1;
      at += depth;
    }
    if (at >= high) return -1;
    if (byteAt(at) != wanted) return byteAt(at) == percent ? -2 : -1;
    at++;
  }
  if (size == 0 || at >= high) return at;
  const after = byteAt(at);
  if (after == percent || after >= 0xc3) return -2;
  if (after == fullStop) return at + 1 < high && isWord(byteAt(at + 1)) ? -1 : at;
  return isWord(after) || after == minus || after == tilde ? -1 : at;
}

/** Whether a host may continue, or something may follow it that is not looked at here. */
function mayGoOn(at: i32, high: i32): bool {
  if (at >= high) return false;
  const byte = byteAt(at);
  if (byte == fullStop) return at + 1 < high && (isWord(byteAt(at + 1)) || byteAt(at + 1) == minus);
  return isWord(byte) || byte == minus || byte == colon || byte == percent || byte == ampersand;
}

/**
 * The old address at a host.
 * @param backslashes how many the text writes for one
 * @param plainOnly whether escaped slashes are left to others
 * @returns the offset after it, or -1 where it is left to others
 */
function address(place: i32, anchor: usize, low: i32, high: i32, backslashes: i32, plainOnly: bool): i32 {
  const after = place + load<i32>(anchor, 4);
  if (mayGoOn(after, high) || place - 1 < low || byteAt(place - 1) != slash) return -1;
  let depth = 0;
  while (place - 2 - depth >= low && byteAt(place - 2 - depth) == backslash) depth++;
  if (depth > deepest || (depth > 0 && plainOnly)) return -1;
  const first = place - 2 * (depth + 1);
  if (first - 1 < low || byteAt(first + depth) != slash || byteAt(first - 1) != colon) return -1;
  for (let d = 0; d < depth; d++) if (byteAt(first + d) != backslash) return -1;
  const start = schemeBefore(low, first - 1);
  if (start < 0) return -1;
  let known = table + <usize>load<u32>(anchor, 8);
  for (let i = load<u32>(anchor, 12); i > 0; i--, known += addressBytes) {
    const end = endOfPath(after, high, table + <usize>load<u32>(known), load<i32>(known, 4), depth);
    if (end == -1) continue;
    const put = known + putsAt + 8 * <usize>depth;
    const size = load<i32>(put, 4);
    if (end == -2 || size == kept) return -1;
    const form = depth > 0 && depth >= backslashes ? 1 : 0;
    if (!addAddress(start, end, table + load<u32>(put), size, load<i32>(known, 8), form)) return -1;
    growth += size - (end - start);
    return end;
  }
  return -1;
}

/** Whether what is before a link without its host rules out that it is one. */
function isNoLink(place: i32, low: i32): bool {
  let start = place;
  while (start > low && byteAt(start - 1) == backslash) start--;
  if (start == low) return true;
  const before = byteAt(start - 1);
  return !(
    before == doubleQuote ||
    before == singleQuote ||
    before == equals ||
    before == openBracket ||
    before == semicolon ||
    before == space ||
    before == comma ||
    before == lineFeed
  );
}

/** Whether a path continues after its first segment in any way of writing a slash. */
function mayBePath(after: i32, high: i32): bool {
  if (after >= high) return false;
  const byte = byteAt(after);
  return byte == slash || byte == backslash || byte == percent || byte == ampersand;
}

/**
 * Looks closely at the anchors in a stretch of text and adds the edits of the old addresses there.
 * @returns false where that is left to others; edits may have been added then
 */
export function editsInText(low: i32, high: i32, backslashes: i32, plainOnly: bool): bool {
  growth = 0;
  let from = low;
  for (; anchorIn(low, high); next++) {
    const place = placeOf(next);
    const anchor = told(next);
    const kind = load<u32>(anchor);
    const after = place + load<i32>(anchor, 4);
    if (kind == root) {
      // The anchor is the segment after the slash; what else begins there comes before it.
      if (place + 1 < from) continue;
      if (next + 1 < anchorCount && placeOf(next + 1) == place + 1) {
        if (load<u32>(told(next + 1)) == host) continue;
        return false;
      }
      if (after > high) break;
      if (!isNoLink(place, low)) return false;
      from = after;
    } else if (place >= from) {
      if (kind == host) {
        if (after > high) break;
        from = address(place, anchor, low, high, backslashes, plainOnly);
        if (from < 0) return false;
      } else if (kind != path || mayBePath(after, high)) return false;
    }
  }
  return true;
}
