import { asBytes, type ByteString } from '../../bytes.js';
import { unescapeAt } from './name.js';

/** A word of a zone file: its bytes with their escapes, without the quotes. */
export interface Token {
  readonly text: ByteString;
  readonly quoted: boolean;
}

/** The bytes that a word means. */
export function unescaped(text: ByteString): ByteString {
  if (!text.includes('\\')) return text;
  let out = '';
  for (let at = 0; at < text.length; ) {
    if (text[at] !== '\\') out += text[at++];
    else {
      const { byte, end } = unescapeAt(text, at);
      out += byte;
      at = end;
    }
  }
  return asBytes(out);
}

/** Bytes in quotes, as a word of a zone file. */
export function quoted(bytes: string): string {
  const inner = bytes.replace(/["\\]|[^ -~]/g, char =>
    char === '"' || char === '\\' ? `\\${char}` : `\\${String(char.charCodeAt(0)).padStart(3, '0')}`,
  );
  return `"${inner}"`;
}
