import escapeStringRegexp from 'escape-string-regexp';
import { type Dialect, endOfString } from './literal.js';

/** What the functions here give where the end of something is not in the window yet. */
export const needMore = -1;

/** The offset after a literal `0x…` or `X'…'` that begins at `at`; `at` where none does. */
export function endOfHex(s: string, at: number, size: number, last: boolean): number {
  if (!last && size - at < 3) return needMore;
  const opening = s.slice(at, at + 2);
  if (opening !== '0x' && opening !== "X'" && opening !== "x'") return at;
  hexDigits.lastIndex = at + 2;
  const end = at + 2 + (hexDigits.exec(s)?.[0].length ?? 0);
  if (end === size && !last) return needMore;
  return opening === '0x' ? end : s[end] === "'" ? end + 1 : at;
}

const hexDigits = /[0-9a-fA-F]*/y;

/** `/*!40101 … *\/` is code to the server; the sandbox line that begins `/*!999999\-` is a word to the client. */
export function versioned(s: string, at: number): boolean {
  if (s[at + 2] !== '!' && !(s[at + 2] === 'M' && s[at + 3] === '!')) return false;
  return !s.startsWith('/*!999999\\-', at) && !s.startsWith('/*M!999999\\-', at);
}

/** The offset after a quoted name or a comment that begins at `at`; after one byte where neither does. */
export function endOfAside(s: string, at: number, last: boolean): number {
  const two = s.slice(at, at + 2);
  let end: number;
  if (two[0] === '`') end = s.indexOf('`', at + 1) + 1;
  else if (two[0] === '#' || (two === '--' && /\s/.test(s[at + 2] ?? ' '))) end = s.indexOf('\n', at) + 1;
  else if (two === '/*') end = versioned(s, at) ? at + 3 : s.indexOf('*/', at + 2) + 2;
  else if (two.length < 2 && !last) return needMore;
  else return at + 1;
  const found = end > at + 1;
  if (found) return end;
  return last ? s.length : needMore;
}

/** Where the delimiter of the statement that begins at `at` is, outside strings, names and comments. */
export function endOfStatement(
  s: string,
  at: number,
  delimiter: string,
  dialect: Dialect,
  last: boolean,
): number {
  const stops = new RegExp(`['"\`#]|--(?=\\s)|/\\*|${escapeStringRegexp(delimiter)}`, 'g');
  stops.lastIndex = at;
  for (let found = stops.exec(s); found; found = stops.exec(s)) {
    const [token] = found;
    if (token === delimiter) return found.index;
    let end: number;
    if (token === "'" || token === '"') {
      const close = endOfString(s, found.index + 1, token, dialect, last);
      end = close < 0 ? needMore : close + 1;
    } else {
      end = endOfAside(s, found.index, last);
    }
    if (end === needMore) return needMore;
    stops.lastIndex = end;
  }
  return needMore;
}

/** `` `a``b` `` → `a`b; `"a"` → a; `db`.`t` → t. */
export function unquoteName(name: string): string {
  const last = /(?:`(?:[^`]|``)+`|"[^"]+"|[^.`"]+)$/.exec(name)?.[0] ?? name;
  if (last.startsWith('`')) return last.slice(1, -1).replaceAll('``', '`');
  return last.startsWith('"') ? last.slice(1, -1) : last;
}
