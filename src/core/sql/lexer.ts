import { type Dialect, endOfString } from './literal.js';
import { versioned } from './tokens.js';

/** A token of a statement: a bare word, a quoted name, a string, or any other single character. */
export interface Token {
  readonly kind: 'word' | 'name' | 'string' | 'mark';
  /** The word as it is, the name or string without its quotes (a string not opened), or the character. */
  readonly text: string;
  readonly start: number;
  readonly end: number;
}

const bare = /[\w$\x80-\xff]+/y;
const blank = /\s+/y;

/**
 * The tokens of one statement. Comments are skipped; what is in a versioned comment (`/*!40101 … *\/`) is code to some
 * servers, and is read as such. A string in double quotes is one too, whatever the SQL mode says.
 */
export function* tokensOf(s: string, dialect: Dialect = { backslash: true }): Generator<Token> {
  let at = 0;
  /** Versioned comments that are open. */
  let open = 0;
  while (at < s.length) {
    blank.lastIndex = at;
    at += blank.exec(s)?.[0].length ?? 0;
    if (at >= s.length) return;
    const start = at;
    const c = s[at]!;
    const two = s.slice(at, at + 2);
    if (two === '/*') {
      if (versioned(s, at)) {
        at += /^\/\*M?!\d*/.exec(s.slice(at, at + 12))![0].length;
        open++;
      } else at = after(s, '*/', at + 2);
    } else if (two === '*/' && open > 0) {
      at += 2;
      open--;
    } else if (c === '#' || (two === '--' && /\s|^$/.test(s[at + 2] ?? ''))) at = after(s, '\n', at);
    else if (c === '`' || c === "'" || c === '"') {
      const close = c === '`' ? endOfName(s, at + 1) : endOfString(s, at + 1, c, dialect, true);
      at = close < 0 ? s.length : close + 1;
      const inside = s.slice(start + 1, close < 0 ? s.length : close);
      const text = c === '`' ? inside.replaceAll('``', '`') : inside;
      yield { kind: c === '`' ? 'name' : 'string', text, start, end: at };
    } else {
      bare.lastIndex = at;
      const word = bare.exec(s)?.[0];
      at += word?.length ?? 1;
      yield { kind: word === undefined ? 'mark' : 'word', text: word ?? c, start, end: at };
    }
  }
}

function after(s: string, what: string, from: number): number {
  const at = s.indexOf(what, from);
  return at < 0 ? s.length : at + what.length;
}

/** The offset of the backtick that ends a name. */
function endOfName(s: string, from: number): number {
  let at = from;
  for (;;) {
    at = s.indexOf('`', at);
    if (at < 0 || s[at + 1] !== '`') return at;
    at += 2;
  }
}
