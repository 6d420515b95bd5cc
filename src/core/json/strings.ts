import { asBytes, type ByteString, type Edit } from '../bytes.js';

/** Whether a value may be JSON that can hold strings. */
export function looksJson(value: string): boolean {
  return /^\s*[[{"]/.test(value.slice(0, 64));
}

/** Whether a character of a JSON text (RFC 8259) is escaped. @param low where the text begins */
export function isEscaped(s: string, low: number, at: number): boolean {
  let run = at;
  while (run > low && s.charCodeAt(run - 1) === 0x5c) run--;
  return (at - run) % 2 === 1;
}

/** A JSON string's value as UTF-8 bytes, with the outer offset of every byte that an escape means. */
export interface OpenJsonString {
  readonly value: ByteString;
  /** For each escape: the value offset at which it begins, its bytes there, and its length in the text. */
  readonly escapes: readonly { readonly at: number; readonly inner: number; readonly outer: number }[];
}

const short: Record<string, string> = { n: '\n', r: '\r', t: '\t', b: '\b', f: '\f' };

/** Opens the text between the quotes of a JSON string. */
export function openJsonString(raw: ByteString): OpenJsonString {
  const escapes: { at: number; inner: number; outer: number }[] = [];
  let value = '';
  let from = 0;
  const pattern = /\\(?:u([0-9a-fA-F]{4})(?:\\u([dD][c-fC-F][0-9a-fA-F]{2}))?|(.))/gs;
  for (let found = pattern.exec(raw); found; found = pattern.exec(raw)) {
    value += raw.slice(from, found.index);
    const { bytes, outer } = meaning(found);
    escapes.push({ at: value.length, inner: bytes.length, outer });
    value += bytes;
    from = found.index + outer;
    pattern.lastIndex = from;
  }
  return { value: asBytes(value + raw.slice(from)), escapes };
}

function meaning(found: RegExpExecArray): { bytes: string; outer: number } {
  const [whole, first, second, letter] = found;
  if (first === undefined) return { bytes: short[letter!] ?? letter!, outer: whole.length };
  const high = Number.parseInt(first, 16);
  const paired = second !== undefined && high >= 0xd800 && high < 0xdc00;
  const text = paired ? String.fromCharCode(high, Number.parseInt(second, 16)) : String.fromCharCode(high);
  return { bytes: Buffer.from(text, 'utf8').toString('latin1'), outer: paired ? 12 : 6 };
}

/** Carries changes of a JSON string's value to its text; slashes are written as those that they replace. */
export function editsInJsonString(open: OpenJsonString, edits: readonly Edit[], start: number): Edit[] {
  const escaped = new Set(open.escapes.map(({ at }) => at));
  let next = 0;
  let shift = 0;
  const outer = (at: number) => {
    for (let one = open.escapes[next]; one && one.at < at; one = open.escapes[++next]) {
      shift += one.outer - one.inner;
    }
    return start + at + shift;
  };
  return edits.map(edit => {
    const slash = escaped.has(open.value.indexOf('/', edit.start)) ? '\\/' : '/';
    const put = asBytes(JSON.stringify(edit.put).slice(1, -1).replaceAll('/', slash));
    return { start: outer(edit.start), end: outer(edit.end), put };
  });
}
