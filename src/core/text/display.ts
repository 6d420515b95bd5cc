import { textOf } from '../bytes.js';

/** Text with control characters and terminal escapes made harmless. */
export function showable(text: string): string {
  return text
    .replace(/[\x00-\x1f\x7f-\x9f\u2028\u2029\u200e\u200f\u061c\u202a-\u202e\u2066-\u2069]/g, '·')
    .replaceAll('\ufffd', '·');
}

/** Some forty bytes on both sides of an offset, as one line of text without control characters. */
export function excerpt(s: string, at: number, around = 40, low = 0, high = s.length): string {
  const from = Math.max(low, at - around);
  const to = Math.min(high, at + around * 2);
  return showable(`${from > low ? '…' : ''}${textOf(s.slice(from, to))}${to < high ? '…' : ''}`);
}
