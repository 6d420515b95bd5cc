import { asBytes, type ByteString } from '../../bytes.js';
import { looksJson } from '../../json/strings.js';
import { looksSerialized } from '../../serialized/spans.js';

/** A stretch of Base64 (RFC 4648) in text, opened. */
export interface OpenBase64 {
  readonly start: number;
  readonly end: number;
  readonly value: ByteString;
  /** Writes another value as this one was written: alphabet, padding, line length, escaped slashes. */
  write(value: ByteString): ByteString;
}

/** So many starts of a stretch are tried. */
const mostStarts = 8;

/**
 * Opens the Base64 around an anchor.
 * @param low @param high the bounds of the text in which it must lie
 * @returns where the stretch ends, and what it holds; that is undefined where nothing readable comes out, or it could
 *   not be written back as it is
 */
export function openBase64(
  s: ByteString,
  low: number,
  high: number,
  at: number,
): { readonly end: number; readonly open: OpenBase64 | undefined } {
  let first = at;
  while (first > low && within(s, first - 1, low, high)) first--;
  let end = at;
  while (end < high && within(s, end, low, high)) end++;
  while (end < high && s[end] === '=') end++;
  // What is before a slash may be a path's: the slash is a character of Base64 too.
  for (let start = first, tries = 0; tries < mostStarts; tries++) {
    const open = openedAs(asBytes(s.slice(start, end)), start, end);
    if (open) return { end, open };
    start = s.indexOf('/', start) + 1;
    if (start === 0 || start > at) break;
  }
  return { end, open: undefined };
}

const member = /[A-Za-z0-9+/_-]/;

/** Whether a byte belongs to a stretch of Base64: one of its characters, or a line end or escape between two. */
function within(s: string, at: number, low: number, high: number): boolean {
  const char = s[at]!;
  if (member.test(char)) return true;
  if (char === '\\') return /^\\+\//.test(s.slice(at, Math.min(high, at + 8)));
  if (char !== '\n' && char !== '\r') return false;
  // A line is broken after many characters, and continues with one.
  const before = s.slice(Math.max(low, at - 61), at).replace(/\r$/, '');
  return (
    /[A-Za-z0-9+/_-]{60}$/.test(before) &&
    /^\r?\n[A-Za-z0-9+/_-]/.test(s.slice(at, at + 3).replace(/^\n/, '\r\n'))
  );
}

function openedAs(written: ByteString, start: number, end: number): OpenBase64 | undefined {
  const slash = /\\+\//.exec(written)?.[0] ?? '/';
  const lineEnd = /\r?\n/.exec(written);
  const packed = written.replace(/[\r\n\\]/g, '');
  const url = /[-_]/.test(packed);
  const padded = packed.endsWith('=') || packed.length % 4 === 0;
  const value = asBytes(Buffer.from(packed, 'base64').toString('latin1'));
  const write = (next: ByteString) => {
    const bytes = Buffer.from(next, 'latin1');
    let text = bytes.toString(url ? 'base64url' : 'base64');
    if (url && padded) text += '='.repeat((4 - (text.length % 4)) % 4);
    if (!padded) text = text.replace(/=+$/, '');
    if (lineEnd) {
      const line = new RegExp(`.{${lineEnd.index}}(?=.)`, 'g');
      text = text.replace(line, whole => whole + lineEnd[0]);
    }
    return asBytes(slash === '/' ? text : text.replaceAll('/', slash));
  };
  return isReadable(value) && write(value) === written ? { start, end, value, write } : undefined;
}

/** Whether bytes are something that one writes: a serialized value, JSON, or text in UTF-8. */
function isReadable(value: ByteString): boolean {
  if (looksSerialized(value) || looksJson(value)) return true;
  const bytes = Buffer.from(value, 'latin1');
  return (
    !/[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]/.test(value) &&
    bytes.equals(Buffer.from(bytes.toString('utf8'), 'utf8'))
  );
}
