import { asBytes, type ByteString } from '../../../bytes.js';

/** A PHP single-quoted string literal that is worth exactly these bytes. */
export function phpLiteral(value: ByteString): ByteString {
  return asBytes(`'${value.replace(/[\\']/g, '\\$&')}'`);
}

/** The bytes of a quoted string. https://www.php.net/manual/en/language.types.string.php */
export function stringValue(raw: string): ByteString | undefined {
  const text = raw.replace(/^b(?=['"])/i, '');
  if (text.startsWith("'")) return asBytes(text.slice(1, -1).replace(/\\([\\'])/g, '$1'));
  return text.startsWith('"') ? unescaped(text.slice(1, -1)) : undefined;
}

/** The bytes of what is between double quotes. */
export function unescaped(raw: string): ByteString {
  return asBytes(
    raw.replace(/\\(?:([nrtvef\\$"])|([0-7]{1,3})|x([0-9A-Fa-f]{1,2})|u\{([0-9A-Fa-f]+)\})/g, escapedBytes),
  );
}

const letters: Record<string, string> = { n: '\n', r: '\r', t: '\t', v: '\v', e: '\x1b', f: '\f' };

function escapedBytes(_: string, letter?: string, octal?: string, hex?: string, unicode?: string): string {
  if (letter !== undefined) return letters[letter] ?? letter;
  if (octal !== undefined) return String.fromCharCode(Number.parseInt(octal, 8) & 255);
  if (hex !== undefined) return String.fromCharCode(Number.parseInt(hex, 16));
  return Buffer.from(String.fromCodePoint(Number.parseInt(unicode!, 16)), 'utf8').toString('latin1');
}
