/**
 * A path as browsers send it: what cannot be in a URL is encoded, and what is encoded without need is not. Dots and doubled
 * slashes stay as they are, since logs have them.
 * @param text as a person types it, or percent-encoded
 */
export function encodedPath(text: string): string {
  return encoded(text, '"<>#?`{}^\\');
}

/** The same for a path with its query. */
export function encodedPage(text: string): string {
  const mark = text.indexOf('?');
  if (mark < 0) return encodedPath(text);
  return `${encodedPath(text.slice(0, mark))}?${encoded(text.slice(mark + 1), '"<>#')}`;
}

function encoded(text: string, special: string): string {
  let all = '';
  for (const byte of Buffer.from(text, 'utf8')) {
    const char = String.fromCharCode(byte);
    const must = byte <= 0x20 || byte >= 0x7f || special.includes(char);
    all += must ? `%${byte.toString(16).toUpperCase().padStart(2, '0')}` : char;
  }
  return all.replace(/%[0-9a-f]{2}/gi, code => {
    const char = String.fromCharCode(Number.parseInt(code.slice(1), 16));
    return /[\w.~-]/.test(char) ? char : code.toUpperCase();
  });
}
