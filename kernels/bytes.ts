// What the kernels say of single bytes.

// @ts-expect-error: decorators of functions are AssemblyScript's own.
@inline
export function isDigit(byte: u8): bool {
  return byte >= 0x30 && byte <= 0x39;
}

// @ts-expect-error: see above.
@inline
export function isWord(byte: u8): bool {
  return isDigit(byte) || byte == 0x5f || ((byte | 0x20) >= 0x61 && (byte | 0x20) <= 0x7a);
}

export const lineFeed: u8 = 0x0a;
export const space: u8 = 0x20;
export const doubleQuote: u8 = 0x22;
export const percent: u8 = 0x25;
export const ampersand: u8 = 0x26;
export const singleQuote: u8 = 0x27;
export const openBracket: u8 = 0x28;
export const plus: u8 = 0x2b;
export const comma: u8 = 0x2c;
export const minus: u8 = 0x2d;
export const fullStop: u8 = 0x2e;
export const slash: u8 = 0x2f;
export const colon: u8 = 0x3a;
export const semicolon: u8 = 0x3b;
export const equals: u8 = 0x3d;
export const backslash: u8 = 0x5c;
export const tilde: u8 = 0x7e;
