/** The character set that a `Content-Type` header names, in lower case. */
export function charsetOf(type: string | undefined): string | undefined {
  return /charset\s*=\s*["']?([\w:.-]+)/i.exec(type ?? '')?.[1]?.toLowerCase();
}

/**
 * A page's bytes as the text that a browser shows (WHATWG Encoding Standard): by its byte order mark, the header, or the
 * `meta` in its first kilobyte; otherwise as UTF-8.
 */
export function decodePage(bytes: Uint8Array, type: string | undefined): string {
  const head = Buffer.from(bytes.buffer, bytes.byteOffset, Math.min(1024, bytes.byteLength)).toString(
    'latin1',
  );
  const named = charsetOf(type) ?? /<meta[^>]+charset\s*=\s*["']?([\w:.-]+)/i.exec(head)?.[1];
  const hasMark = head.startsWith('\xEF\xBB\xBF');
  try {
    return new TextDecoder(hasMark ? 'utf-8' : (named ?? 'utf-8')).decode(bytes);
  } catch {
    return new TextDecoder('utf-8').decode(bytes);
  }
}

/** Letters that UTF-8 becomes when its bytes are read as Windows-1252 or Latin-1, and what could not be read at all. */
const garbled =
  /\u00C3[\u0080-\u00BF\u0192\u201A\u201E\u2026\u2020\u2021\u02C6\u2030\u0160\u2039\u0152\u017D\u2018\u2019\u201C\u201D\u2022\u2013\u2014\u02DC\u2122\u0161\u203A\u0153\u017E\u0178]|\u00E2\u20AC[\u0080-\u2122]|\u00C2[\u00A0-\u00BF]|\uFFFD/g;

/** Where a text is garbled by a wrong character set: a piece around the first such place, and how many there are. */
export function mojibakeIn(text: string): { readonly sample: string; readonly count: number } | undefined {
  const all = [...text.matchAll(garbled)];
  const [first] = all;
  if (!first) return undefined;
  return { sample: text.slice(Math.max(0, first.index - 20), first.index + 20).trim(), count: all.length };
}
