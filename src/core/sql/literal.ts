import { asBytes, type ByteString, type Edit } from '../bytes.js';

/** How the server that will read a dump takes a backslash in a string (its SQL mode). */
export interface Dialect {
  /** False under NO_BACKSLASH_ESCAPES. */
  readonly backslash: boolean;
}

/** A literal's value, and what is needed to carry a change of the value back to the literal. */
export interface OpenLiteral {
  readonly value: ByteString;
  /** Offsets in the value of the bytes that two bytes of the literal mean. */
  readonly escapes: readonly number[];
}

const named: Record<string, string> = { n: '\n', r: '\r', t: '\t', '0': '\0', b: '\b', Z: '\x1a' };
const escapedByte = new Uint8Array(256).map((_, code) => {
  const to = named[String.fromCharCode(code)];
  return to === undefined ? code : to.charCodeAt(0);
});

/**
 * Opens the text between the quotes of an SQL string literal.
 * https://dev.mysql.com/doc/refman/8.0/en/string-literals.html. Outside a LIKE pattern `\%` and `\_` keep
 * their backslash.
 */
export function openLiteral(
  s: string,
  start: number,
  end: number,
  quote: number,
  dialect: Dialect,
): OpenLiteral {
  const bytes = Buffer.from(s.slice(start, end), 'latin1');
  const escapes: number[] = [];
  let to = 0;
  for (let i = 0; i < bytes.length; i++) {
    let byte = bytes[i]!;
    if (
      byte === 0x5c &&
      dialect.backslash &&
      i + 1 < bytes.length &&
      bytes[i + 1] !== 0x25 &&
      bytes[i + 1] !== 0x5f
    ) {
      escapes.push(to);
      byte = escapedByte[bytes[++i]!]!;
    } else if (byte === quote && bytes[i + 1] === quote) {
      escapes.push(to);
      i++;
    }
    bytes[to++] = byte;
  }
  return { value: asBytes(bytes.toString('latin1', 0, to)), escapes };
}

/**
 * The text of literals as the value that it writes, for reading in place. Offsets are asked for in rising order
 * over a whole window, so that each backslash is looked for once.
 */
export class EscapedText {
  private readonly s: string;
  private backslash = -1;

  constructor(s: string) {
    this.s = s;
  }

  /** Offset after so many bytes of value. */
  skip(start: number, bytes: number): number {
    let at = start;
    let left = bytes;
    for (;;) {
      if (this.backslash < at) {
        const next = this.s.indexOf('\\', at);
        this.backslash = next < 0 ? Number.POSITIVE_INFINITY : next;
      }
      if (this.backslash - at >= left) return at + left;
      const after = this.s.charCodeAt(this.backslash + 1);
      left -= this.backslash - at + (after === 0x25 || after === 0x5f ? 2 : 1);
      at = this.backslash + 2;
      if (left <= 0) return left === 0 ? at : Number.POSITIVE_INFINITY;
    }
  }

  /** How many bytes write a double quote at an offset; 0 where none is. */
  quoteAt(at: number): number {
    const code = this.s.charCodeAt(at);
    if (code === 0x22) return 1;
    return code === 0x5c && this.s.charCodeAt(at + 1) === 0x22 ? 2 : 0;
  }
}

/** How many bytes of value the text of a literal writes, where no quote is doubled in it. */
export function bytesWritten(text: string): number {
  return text.includes('\\') ? text.length - (text.match(/\\[^%_]/gs)?.length ?? 0) : text.length;
}

/** Whether a quote is doubled in the text of a literal. */
export function hasDoubledQuote(s: string, start: number, end: number): boolean {
  for (let at = s.indexOf("'", start); at >= 0 && at < end; at = s.indexOf("'", at + 2)) {
    if (s.charCodeAt(at - 1) !== 0x5c) return true;
  }
  return false;
}

/** Carries changes of the value to the literal's text: what does not change keeps the way it is escaped. */
export function editsInLiteral(
  open: OpenLiteral,
  edits: readonly Edit[],
  start: number,
  dialect: Dialect,
): Edit[] {
  let before = 0;
  const outer = (at: number) => {
    while (before < open.escapes.length && open.escapes[before]! < at) before++;
    return start + at + before;
  };
  return edits.map(edit => ({
    start: outer(edit.start),
    end: outer(edit.end),
    put: escapeForLiteral(edit.put, dialect),
  }));
}

/** Writes bytes so that they may stand between single quotes. */
export function escapeForLiteral(value: string, dialect: Dialect): ByteString {
  if (!dialect.backslash) return asBytes(value.replaceAll("'", "''"));
  return asBytes(
    value.replace(/[\\'"\0\n\r\x1a]/g, c => {
      if (c === '\0') return '\\0';
      if (c === '\n') return '\\n';
      if (c === '\r') return '\\r';
      return c === '\x1a' ? '\\Z' : `\\${c}`;
    }),
  );
}

/**
 * Finds the quote that closes a string, or -1 when what is there ends first. With `last` false, a quote at the
 * very end may still be the first of two.
 */
export function endOfString(s: string, from: number, quote: string, dialect: Dialect, last: boolean): number {
  let at = from;
  for (;;) {
    const end = s.indexOf(quote, at);
    if (end < 0) return -1;
    if (dialect.backslash) {
      let run = end;
      while (run > from && s.charCodeAt(run - 1) === 0x5c) run--;
      if ((end - run) % 2 === 1) {
        at = end + 1;
        continue;
      }
    }
    if (end + 1 === s.length) return last ? end : -1;
    if (s[end + 1] !== quote) return end;
    at = end + 2;
  }
}
