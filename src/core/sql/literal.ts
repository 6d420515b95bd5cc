import { asBytes, type ByteString, type Edit } from '../bytes.js';

/** How the server that will read a dump takes a backslash in a string (its SQL mode). */
export interface Dialect {
  /** False under NO_BACKSLASH_ESCAPES. */
  readonly backslash: boolean;
}

/** A literal's value, and what is needed to carry a change of the value back to the literal. */
export interface OpenLiteral {
  readonly value: ByteString;
  /** Offsets in the value of the bytes that two bytes of the literal stand for. */
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
