// Finds many byte patterns at once, after "Teddy" of the Hyperscan regular expression library (G. Langdale): two bytes of
// each pattern are looked up at sixteen places together, by their halves, in tables that say which groups of patterns
// could have them there. Only where one could, the pattern itself is compared.

import { isWord } from './bytes';

/** Patterns are in so many groups. */
const groups: usize = 8;
/** A table begins with two times sixteen bytes for each of the two bytes. */
const groupsAt: usize = 64;
/** Behind the starts of the groups, and of what would be the next. */
const resumeAt: usize = groupsAt + 4 * (groups + 1);
const longestAt: usize = resumeAt + 4;
const patternsAt: usize = longestAt + 4;
/** Where its bytes lie, how many, how it is found, its number, where in it the two bytes are. */
const patternBytes: usize = 20;
/** How a pattern is found: its letters in any case; not right after a letter or a digit, where it would be of no use. */
const anyCaseFlag: u32 = 1;
const notInWordFlag: u32 = 2;
/** Which groups could be at each of thirty-two places. */
const hits = memory.data(32, 16);
/** The lower half of each of sixteen bytes. As a constant the compiler would make it again for each use. */
const halves = memory.data(16, 16);
v128.store(halves, i8x16.splat(0x0f));

// @ts-expect-error: decorators of functions are AssemblyScript's own.
@inline
function couldBe(lower: v128, upper: v128, low: v128, high: v128): v128 {
  return v128.and(i8x16.swizzle(low, lower), i8x16.swizzle(high, upper));
}

// @ts-expect-error: see above.
@inline
function lowerHalves(bytes: v128, half: v128): v128 {
  return v128.and(bytes, half);
}

// @ts-expect-error: see above.
@inline
function upperHalves(bytes: v128, half: v128): v128 {
  return v128.and(i16x8.shr_u(bytes, 4), half);
}

/** What is one place before each of sixteen. */
// @ts-expect-error: see above.
@inline
function oneBefore(before: v128, here: v128): v128 {
  return i8x16.shuffle(before, here, 15, 16, 17, 18, 19, 20, 21, 22, 23, 24, 25, 26, 27, 28, 29, 30);
}

/** Bytes with the letters A to Z made small. */
function lowered(bytes: v128): v128 {
  const isLarge = i8x16.lt_u(i8x16.sub(bytes, i8x16.splat(0x41)), i8x16.splat(26));
  return v128.or(bytes, v128.and(isLarge, i8x16.splat(0x20)));
}

/** Which of sixteen bytes are another pattern's. */
function differing(place: usize, bytes: usize, anyCase: bool): i32 {
  const there = v128.load(place);
  return i8x16.bitmask(i8x16.ne(anyCase ? lowered(there) : there, v128.load(bytes)));
}

function stands(pattern: usize, place: usize, from: usize, end: usize): bool {
  const bytes = <usize>load<u32>(pattern);
  const size = <usize>load<u32>(pattern, 4);
  const flags = load<u32>(pattern, 8);
  if (place + size > end) return false;
  if ((flags & notInWordFlag) != 0 && place > from && isWord(load<u8>(place - 1))) return false;
  const anyCase = (flags & anyCaseFlag) != 0;
  let at: usize = 0;
  for (; at + 16 <= size; at += 16) if (differing(place + at, bytes + at, anyCase) != 0) return false;
  return at == size || (differing(place + at, bytes + at, anyCase) & ((1 << <i32>(size - at)) - 1)) == 0;
}

/** Adds a place to those found, which are in rising order of places, and at one place in that of patterns' numbers. */
function add(out: usize, found: usize, place: u32, pattern: u32): void {
  let at = out + 8 * found;
  while (at > out && (load<u32>(at - 8) > place || (load<u32>(at - 8) == place && load<u32>(at - 4) > pattern))) {
    store<u64>(at, load<u64>(at - 8));
    at -= 8;
  }
  store<u32>(at, place);
  store<u32>(at, pattern, 4);
}

/**
 * Finds every place at which a pattern begins.
 * @param table the patterns, as `ManySearch` writes them
 * @param from @param size where a pattern may begin @param whole bytes from `from` on in which it must end
 * @param out takes the place (from `from` on) and the pattern's number, in rising order, as two numbers each
 * @param most so many of these have room; where there are more, the place to continue from is in the table, and it is
 *   `size` where all were found
 * @returns how many were found
 */
export function find(table: usize, from: usize, size: usize, whole: usize, out: usize, most: usize): usize {
  const low0 = v128.load(table);
  const high0 = v128.load(table, 16);
  const low1 = v128.load(table, 32);
  const high1 = v128.load(table, 48);
  const half = v128.load(halves);
  const end = from + whole;
  const room = most - 32 * <usize>load<u32>(table, groupsAt + 4 * groups);
  let found: usize = 0;
  /** Which groups could have their first byte at the last place before. */
  let firsts = i8x16.splat(0);
  let at = from;
  // The second byte may be one after the last: it does not matter for a pattern of one byte.
  for (; at <= end && found <= room; at += 32) {
    const some = v128.load(at);
    const more = v128.load(at, 16);
    const lower = lowerHalves(some, half);
    const upper = upperHalves(some, half);
    const lowerMore = lowerHalves(more, half);
    const upperMore = upperHalves(more, half);
    const first = couldBe(lower, upper, low0, high0);
    const firstMore = couldBe(lowerMore, upperMore, low0, high0);
    const possible = v128.and(oneBefore(firsts, first), couldBe(lower, upper, low1, high1));
    const possibleMore = v128.and(oneBefore(first, firstMore), couldBe(lowerMore, upperMore, low1, high1));
    firsts = firstMore;
    if (!v128.any_true(v128.or(possible, possibleMore))) continue;
    v128.store(hits, possible);
    v128.store(hits, possibleMore, 16);
    const none = i8x16.splat(0);
    let places = i8x16.bitmask(i8x16.ne(possible, none)) | (i8x16.bitmask(i8x16.ne(possibleMore, none)) << 16);
    for (; places != 0; places &= places - 1) {
      const offset = <usize>ctz(places);
      for (let which = <u32>load<u8>(hits + offset); which != 0; which &= which - 1) {
        const group = table + groupsAt + 4 * <usize>ctz(which);
        const last = <usize>load<u32>(group, 4);
        for (let i = <usize>load<u32>(group); i < last; i++) {
          const pattern = table + patternsAt + patternBytes * i;
          const place = at + offset - 1 - load<u32>(pattern, 16);
          if (<isize>place < <isize>from || place >= from + size || !stands(pattern, place, from, end)) continue;
          add(out, found++, <u32>(place - from), load<u32>(pattern, 12));
        }
      }
    }
  }
  let resume = size;
  if (at <= end) {
    // What begins a longest pattern before here was found; what was found after that is found again.
    resume = min(size, at - from - <usize>load<u32>(table, longestAt));
    while (found > 0 && load<u32>(out + 8 * (found - 1)) >= <u32>resume) found--;
  }
  store<u32>(table + resumeAt, <u32>resume);
  return found;
}

/**
 * Takes those of the places that were found in a block which are in a part of it.
 * @param places what `find` gave @param many how many
 * @param from where in the block the part begins, below 0 for bytes before it @param size bytes of the part
 * @param out takes the places from the part's beginning on @param most so many have room
 * @returns how many there are, or -1 where there is not enough room
 */
export function part(places: usize, many: i32, from: i32, size: i32, out: usize, most: i32): i32 {
  let low = 0;
  for (let high = many; low < high; ) {
    const middle = (low + high) >> 1;
    if (load<i32>(places + 8 * <usize>middle) < from) low = middle + 1;
    else high = middle;
  }
  let taken = 0;
  for (let i = low; i < many && load<i32>(places + 8 * <usize>i) < from + size; i++, taken++) {
    if (taken == most) return -1;
    store<i32>(out + 8 * <usize>taken, load<i32>(places + 8 * <usize>i) - from);
    store<i32>(out + 8 * <usize>taken, load<i32>(places + 8 * <usize>i, 4), 4);
  }
  return taken;
}
