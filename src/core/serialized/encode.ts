import { asBytes, type ByteString, bytesOfText } from '../bytes.js';

/** Plain data that PHP's serialize() could have been given. */
export type Encodable =
  | null
  | boolean
  | number
  | string
  | readonly Encodable[]
  | { readonly [key: string]: Encodable };

/** Writes data as PHP's serialize() does: arrays for lists and records, lengths in bytes of UTF-8. */
export function encodeSerialized(value: Encodable): ByteString {
  if (value === null) return asBytes('N;');
  if (typeof value === 'boolean') return asBytes(`b:${value ? 1 : 0};`);
  if (typeof value === 'number') return asBytes(Number.isInteger(value) ? `i:${value};` : `d:${value};`);
  if (typeof value === 'string') {
    const bytes = bytesOfText(value);
    return asBytes(`s:${bytes.length}:"${bytes}";`);
  }
  const entries = Array.isArray(value)
    ? value.map((item, i) => [String(i), item] as const)
    : Object.entries(value as Record<string, Encodable>);
  const body = entries.map(([key, item]) => encodeSerialized(keyOf(key)) + encodeSerialized(item));
  return asBytes(`a:${entries.length}:{${body.join('')}}`);
}

/** PHP makes a key that is written as a decimal integer into one. */
function keyOf(key: string): string | number {
  return /^(?:0|-?[1-9]\d{0,14})$/.test(key) ? Number(key) : key;
}
