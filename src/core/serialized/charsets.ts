import type { Writing } from './spans.js';

/** How lengths are counted that count bytes of another character set than the value is written in here. */
export interface Counting extends Writing {
  /** Bytes that the site counts for a piece of the value; NaN where it cannot have them. */
  count(piece: string): number;
}

/** The characters that the server's latin1 (Windows-1252) has in place of the control characters 0x80 to 0x9f. */
const windows = '€\x81‚ƒ„…†‡ˆ‰Š‹Œ\x8dŽ\x8f\x90‘’“”•–—˜™š›œ\x9džŸ';

const bytesInUtf8 = Array.from({ length: 256 }, (_, code) => {
  const char = code >= 0x80 && code < 0xa0 ? windows[code - 0x80]! : String.fromCharCode(code);
  return Buffer.byteLength(char);
});

const inLatin1 = new Set([
  ...Array.from({ length: 256 }, (_, code) => String.fromCharCode(code)),
  ...windows,
]);

/**
 * The ways in which lengths may count other bytes than those that stand here: a latin1 site (or one whose UTF-8 was
 * taken for latin1, and encoded twice) dumped as UTF-8, and a site in UTF-8 dumped as latin1.
 */
export function countings(s: string): readonly Counting[] {
  if (!/[\x80-\xff]/.test(s)) return [];
  const bytes = Buffer.from(s, 'latin1');
  const text = bytes.toString('utf8');
  if (!bytes.equals(Buffer.from(text, 'utf8'))) return [utf8ByByte(s)];
  return isLatin1(text) ? [oneByChar(s)] : [];
}

function isLatin1(text: string): boolean {
  for (const char of text) if (!inLatin1.has(char)) return false;
  return true;
}

/** The site counts one byte for each character that is written here in UTF-8. */
function oneByChar(s: string): Counting {
  return {
    skip(start, bytes) {
      let at = start;
      for (let left = bytes; left > 0; left--) {
        if (at >= s.length) return Number.POSITIVE_INFINITY;
        at++;
        while ((s.charCodeAt(at) & 0xc0) === 0x80) at++;
      }
      return at;
    },
    quoteAt: at => quoteAt(s, at),
    count(piece) {
      const text = Buffer.from(piece, 'latin1').toString('utf8');
      return isLatin1(text) ? text.length : Number.NaN;
    },
  };
}

/** The site counts the bytes of UTF-8 for each character that is written here as one byte of latin1. */
function utf8ByByte(s: string): Counting {
  return {
    skip(start, bytes) {
      let at = start;
      let left = bytes;
      for (; left > 0; at++) {
        if (at >= s.length) return Number.POSITIVE_INFINITY;
        left -= bytesInUtf8[s.charCodeAt(at)]!;
      }
      return left === 0 ? at : Number.POSITIVE_INFINITY;
    },
    quoteAt: at => quoteAt(s, at),
    count: piece => [...piece].reduce((sum, char) => sum + bytesInUtf8[char.charCodeAt(0)]!, 0),
  };
}

function quoteAt(s: string, at: number): number {
  return s.charCodeAt(at) === 0x22 ? 1 : 0;
}
