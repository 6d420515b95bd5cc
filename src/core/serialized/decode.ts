import { asBytes, textOf } from '../bytes.js';
import { isDamage, readSerialized } from './spans.js';

/** A serialized value as plain data. Objects become records with their class left out; nothing is instantiated. */
export type Decoded = null | boolean | number | string | { [key: string]: Decoded };

/**
 * Reads a serialized value into plain data, for looking at (facts of a site, a stand-in's pages). Strings are
 * read as UTF-8. References and custom payloads become null.
 * @returns undefined when the value is damaged
 */
export function decodeSerialized(s: string): Decoded | undefined {
  const read = readSerialized(s, 0, s.length);
  if (isDamage(read)) return undefined;
  let i = 0;
  let span = 0;

  const one = (): Decoded => {
    const letter = s[i];
    if (letter === 's' || letter === 'S') {
      const here = read.spans[span++]!;
      i = here.end + 2;
      const raw = s.slice(here.start, here.end);
      return textOf(here.kind === 'S' ? unescapeBytes(raw) : raw);
    }
    if (letter === 'C') {
      i = read.spans[span++]!.end + 1;
      return null;
    }
    if (letter === 'a' || letter === 'O') return record(letter);
    const end = letter === 'E' ? s.indexOf('";', i) + 1 : s.indexOf(';', i);
    const raw = s.slice(i + 2, end);
    i = end + 1;
    if (letter === 'b') return raw === '1';
    if (letter === 'i' || letter === 'd') return Number(raw);
    return null;
  };

  const record = (letter: 'a' | 'O'): Decoded => {
    const pattern = letter === 'a' ? /a:\+?(\d+):\{/y : /O:\+?\d+:"[^"]*":\+?(\d+):\{/y;
    pattern.lastIndex = i;
    const head = pattern.exec(s)!;
    i += head[0].length;
    const out: { [key: string]: Decoded } = Object.create(null);
    for (let n = Number(head[1]); n > 0; n--) {
      const key = one();
      out[String(key).replace(/^\0[^\0]*\0/, '')] = one();
    }
    i++;
    return out;
  };

  return one();
}

function unescapeBytes(raw: string): string {
  return asBytes(
    raw.replace(/\\([0-9a-fA-F]{2})/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16))),
  );
}
