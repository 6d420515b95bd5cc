/** The second byte of an escape in SQL, by the byte that it means; 0 for what needs none. */
const letters = memory.data(256, 16);
store<u8>(letters + 0x00, 0x30); // 0
store<u8>(letters + 0x0a, 0x6e); // n
store<u8>(letters + 0x0d, 0x72); // r
store<u8>(letters + 0x1a, 0x5a); // Z
store<u8>(letters + 0x27, 0x27); // '
store<u8>(letters + 0x5c, 0x5c); // \

/**
 * Copies bytes with a backslash before what needs one between single quotes.
 * @param from where they lie; @param size how many; @param to where twice as many and 16 more have room
 * @returns how many were written
 */
export function escapeInto(from: usize, size: usize, to: usize): usize {
  const nul = i8x16.splat(0x00);
  const lineFeed = i8x16.splat(0x0a);
  const carriageReturn = i8x16.splat(0x0d);
  const substitute = i8x16.splat(0x1a);
  const quote = i8x16.splat(0x27);
  const backslash = i8x16.splat(0x5c);
  const end = from + size;
  let at = to;
  while (from + 16 <= end) {
    const some = v128.load(from);
    v128.store(at, some);
    const special = v128.or(
      v128.or(
        v128.or(i8x16.eq(some, quote), i8x16.eq(some, backslash)),
        v128.or(i8x16.eq(some, lineFeed), i8x16.eq(some, carriageReturn)),
      ),
      v128.or(i8x16.eq(some, substitute), i8x16.eq(some, nul)),
    );
    if (v128.any_true(special)) {
      const before = <usize>ctz(i8x16.bitmask(special));
      from += before;
      at += before;
      store<u8>(at, 0x5c);
      store<u8>(at + 1, load<u8>(letters + load<u8>(from)));
      from++;
      at += 2;
    } else {
      from += 16;
      at += 16;
    }
  }
  for (; from < end; from++) {
    const byte = load<u8>(from);
    const letter = load<u8>(letters + byte);
    if (letter != 0) {
      store<u8>(at++, 0x5c);
      store<u8>(at++, letter);
    } else store<u8>(at++, byte);
  }
  return at - to;
}
