import { asBytes, type ByteString } from '../../bytes.js';
import type { Token } from '../records/words.js';

/** A word of a zone file with where it is, in bytes; its quotes belong to it. */
export interface PlacedWord extends Token {
  readonly start: number;
  readonly end: number;
}

/** What one line of a zone file says; parentheses join several lines into one (RFC 1035, section 5.1). */
export interface Entry {
  /** The number of its first line, from 1. */
  readonly line: number;
  /** From the beginning of its first line to the end of its last one, with comment and line end. */
  readonly start: number;
  readonly end: number;
  /** It begins with a blank, so that its owner is the one before. */
  readonly blank: boolean;
  readonly words: readonly PlacedWord[];
}

/** A zone file that cannot be read, with the line. */
export class ZoneFileError extends Error {
  readonly line: number;

  constructor(line: number, cause: string) {
    super(cause);
    this.line = line;
  }
}

/**
 * Splits a zone file into its entries; lines with nothing but comments have none.
 * @throws ZoneFileError where a quote or a parenthesis is not closed
 */
export function* entriesOf(text: ByteString): Generator<Entry> {
  let at = 0;
  let line = 1;
  while (at < text.length) {
    const start = at;
    const first = line;
    const words: PlacedWord[] = [];
    let open = 0;
    for (let ended = false; !ended; ) {
      const char = text[at];
      if (char === undefined) {
        if (open > 0) throw new ZoneFileError(first, 'a parenthesis is not closed');
        ended = true;
      } else if (char === '\n') {
        at++;
        line++;
        ended = open === 0;
      } else if (char === ';') {
        while (at < text.length && text[at] !== '\n') at++;
      } else if (char === '(' || char === ')') {
        open += char === '(' ? 1 : -1;
        if (open < 0) throw new ZoneFileError(line, 'a parenthesis is closed that is not open');
        at++;
      } else if (char === ' ' || char === '\t' || char === '\r') at++;
      else {
        const word = wordAt(text, at, line);
        words.push(word);
        at = word.end;
      }
    }
    if (words.length > 0) yield { line: first, start, end: at, blank: ' \t'.includes(text[start]!), words };
  }
}

function wordAt(text: ByteString, start: number, line: number): PlacedWord {
  const quoted = text[start] === '"';
  let at = quoted ? start + 1 : start;
  for (; at < text.length; at++) {
    const char = text[at]!;
    if (char === '\\') at++;
    else if (char === '\n') break;
    else if (quoted ? char === '"' : ' \t\r();"'.includes(char)) break;
  }
  if (quoted && text[at] !== '"') throw new ZoneFileError(line, 'a quote is not closed');
  return quoted
    ? { text: asBytes(text.slice(start + 1, at)), quoted, start, end: at + 1 }
    : { text: asBytes(text.slice(start, at)), quoted, start, end: at };
}
