import { encodedPath } from './encoded.js';

/** How a kind of regular expression writes a byte beyond ASCII, or several of one character. */
export type RawBytes = (bytes: readonly number[]) => string;

/** Byte by byte, for expressions that know no characters (PCRE without its UTF mode). */
export const byteByByte: RawBytes = bytes => bytes.map(byte => `\\x${hex(byte)}`).join('');

/** As a character, for expressions over Unicode text (RE2). */
export const asCharacter: RawBytes = bytes => Buffer.from(bytes).toString('utf8');

/**
 * A pattern for a path, from its leading slash on, in whichever way clients send it: a tilde as itself or encoded, as older ones
 * do (RFC 3986, 2.3), the digits of an encoding in either case, and bytes beyond ASCII encoded or as they are.
 * @param segments percent-encoded, as a URL writes them
 */
export function pathPattern(segments: readonly string[], raw: RawBytes): string {
  return segments.map(segment => `/${segmentPattern(segment, raw)}`).join('');
}

/** The same for a text of a path, with its slashes, as a person types it or percent-encoded. */
export function textPattern(text: string, raw: RawBytes): string {
  return segmentPattern(encodedPath(text), raw);
}

function segmentPattern(segment: string, raw: RawBytes): string {
  // Characters of a URL, each as its byte; those beyond ASCII are together what makes one.
  const parts = segment.match(/(?:%[89a-f][0-9a-f])+|%[0-9a-f]{2}|./gi) ?? [];
  return parts.map(part => partPattern(part, raw)).join('');
}

function partPattern(part: string, raw: RawBytes): string {
  if (!part.startsWith('%')) return part === '~' || part === "'" ? oneOf(part.charCodeAt(0)) : literal(part);
  const bytes = [...part.matchAll(/%(..)/g)].map(([, digits]) => Number.parseInt(digits!, 16));
  const encoded = bytes.map(encodedPattern).join('');
  if (bytes[0]! >= 0x80) return `(?:${encoded}|${raw(bytes)})`;
  const char = String.fromCharCode(bytes[0]!);
  // A quote needs no encoding, and URLs write it with one.
  return char === "'" ? oneOf(bytes[0]!) : encoded;
}

/** A character, as it is or encoded. */
function oneOf(byte: number): string {
  return `(?:${literal(String.fromCharCode(byte))}|${encodedPattern(byte)})`;
}

function encodedPattern(byte: number): string {
  const digits = [...hex(byte)].map(digit => (/\d/.test(digit) ? digit : `[${digit}${digit.toLowerCase()}]`));
  return `%${digits.join('')}`;
}

function hex(byte: number): string {
  return byte.toString(16).toUpperCase().padStart(2, '0');
}

/** A text as a pattern that matches just it. */
function literal(text: string): string {
  return text.replace(/[\\^$.*+?()[\]{}|]/g, char => `\\${char}`);
}

/** A pattern for one of several texts. */
export function oneOfThese(texts: readonly string[]): string {
  const all = texts.map(literal);
  return all.length === 1 ? all[0]! : `(?:${all.join('|')})`;
}
