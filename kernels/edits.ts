// The edits of a window; `EditList` reads and adds to them.

/**
 * Where an edit begins and ends in the window, where what is put lies, how many bytes it has, the column, and the pair
 * and form of an address. A number that is put is in place of where it lies.
 */
const editBytes: usize = 24;
const number: i32 = -1;
/** Stands beside the column of the first edit of a literal. */
const firstOfLiteral: i32 = 0x10000;
/** In place of the pair and form. */
const noAddress: i32 = -1;

let edits: usize = 0;
let room: i32 = 0;
let column: i32 = 0;
let first: i32 = 0;
/** How many there are. */
export let count: i32 = 0;

/** Says where edits go, and how many there are. */
export function editsGoTo(place: usize, most: i32, already: i32): void {
  edits = place;
  room = most;
  count = already;
}

/** Begins with the edits of a literal. */
export function beginLiteral(inColumn: i32): void {
  column = inColumn;
  first = firstOfLiteral;
}

/** Takes back all edits but so many. */
export function keepEdits(many: i32): void {
  count = many;
}

/** Adds an edit. @returns false where there is no more room */
function add(start: i32, end: i32, put: i32, size: i32, address: i32): bool {
  if (count >= room) return false;
  const edit = edits + editBytes * <usize>count;
  store<i32>(edit, start);
  store<i32>(edit, end, 4);
  store<i32>(edit, put, 8);
  store<i32>(edit, size, 12);
  store<i32>(edit, column | first, 16);
  store<i32>(edit, address, 20);
  first = 0;
  count++;
  return true;
}

/** An address becomes another. @param form 0 as it is written plainly, 1 with escaped slashes */
export function addAddress(start: i32, end: i32, put: usize, size: i32, pair: i32, form: i32): bool {
  return add(start, end, <i32>put, size, (pair << 1) | form);
}

/** Keeps room for a length that is not known yet. */
export function addLength(start: i32, end: i32): bool {
  return add(start, end, 0, number, noAddress);
}

/** Says the length for which room was kept at a place; where it does not change, the edit goes. */
export function setLength(at: i32, value: i32, changes: bool): void {
  const edit = edits + editBytes * <usize>at;
  if (changes) {
    store<i32>(edit, value, 8);
    return;
  }
  const next = edit + editBytes;
  if (at + 1 < count) store<i32>(next, load<i32>(next, 16) | (load<i32>(edit, 16) & firstOfLiteral), 16);
  else first |= load<i32>(edit, 16) & firstOfLiteral;
  memory.copy(edit, next, editBytes * <usize>(count - at - 1));
  count--;
}

/** Writes a number in digits. @returns the address after it */
function putDigits(value: i32, to: usize): usize {
  let divisor = 1;
  while (value / divisor >= 10) divisor *= 10;
  for (; divisor > 0; divisor /= 10) store<u8>(to++, <u8>(0x30 + ((value / divisor) % 10)));
  return to;
}

/** From so many bytes on the engine's own copying is faster. */
const longCopy: usize = 4096;

/** Copies bytes, and up to fifteen after them. */
function copy(to: usize, from: usize, size: usize): void {
  if (size > longCopy) memory.copy(to, from, size);
  else for (let at: usize = 0; at < size; at += 16) v128.store(to + at, v128.load(from + at));
}

/**
 * Copies bytes with edits carried out on them.
 * @param from where they lie @param size how many @param list the edits, in order
 * @param to where they go @param most how many have room there
 * @returns how many were written, or -1 where there is not enough room
 */
export function splice(from: usize, size: i32, list: usize, many: i32, to: usize, most: i32): i32 {
  let done = 0;
  let at = to;
  const end = to + most - 16;
  let edit = list;
  for (let i = 0; i < many; i++, edit += editBytes) {
    const start = load<i32>(edit);
    const before = <usize>(start - done);
    const bytes = load<i32>(edit, 12);
    if (at + before + max(bytes, 0) > end) return -1;
    copy(at, from + done, before);
    at += before;
    const put = load<u32>(edit, 8);
    if (bytes == number) at = putDigits(put, at);
    else {
      copy(at, put, bytes);
      at += bytes;
    }
    done = load<i32>(edit, 4);
  }
  const rest = <usize>(size - done);
  if (at + rest > end) return -1;
  copy(at, from + done, rest);
  return <i32>(at + rest - to);
}

/** Copies bytes. */
export function move(to: usize, from: usize, size: usize): void {
  memory.copy(to, from, size);
}
