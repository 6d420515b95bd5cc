/**
 * The ways in which clients send a path or a query that has characters beyond the plain ones: encoded with digits in either case,
 * as bytes, and a tilde or a quote encoded, as some do (RFC 3986, 2.3). Looked up as they are, since servers cannot compute
 * one form of another.
 * @param text percent-encoded, as a URL writes it
 * @returns each once, one character a byte, the text itself first
 */
export function spellingsOf(text: string): string[] {
  const small = text.replace(/%[0-9A-F]{2}/g, code => code.toLowerCase());
  const raw = text.replace(/%([89A-F][0-9A-F])/g, (_, digits) =>
    String.fromCharCode(Number.parseInt(digits, 16)),
  );
  let all = [text, small, raw];
  for (const [char, ...codes] of alsoEncoded)
    if (text.includes(char))
      all = all.flatMap(one => [one, ...codes.map(code => one.replaceAll(char, code))]);
  return [...new Set(all)];
}

const alsoEncoded = [
  ['~', '%7E', '%7e'],
  ["'", '%27'],
] as const;
