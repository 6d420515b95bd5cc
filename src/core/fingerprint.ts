const sha256Bytes = 32;

/**
 * Reads a SHA-256 fingerprint in the forms that programs print it: `SHA256:` and Base64 (`ssh-keygen -l`), or pairs of
 * hex digits (`openssl x509 -fingerprint -sha256`), with or without the words before them.
 * @returns `SHA256:` and Base64 without padding; undefined for anything else
 */
export function parseFingerprint(text: string): string | undefined {
  const [, digest = ''] = /^\s*(?:SHA-?256(?: Fingerprint)?[:=])?\s*(\S+?)=*\s*$/i.exec(text) ?? [];
  const hex = /^(?:[\da-f]{2}:?){32}$/i.test(digest);
  const bytes = hex ? Buffer.from(digest.replaceAll(':', ''), 'hex') : Buffer.from(digest, 'base64');
  const base64 = bytes.toString('base64').replace(/=+$/, '');
  return bytes.length === sha256Bytes && (hex || base64 === digest) ? `SHA256:${base64}` : undefined;
}

/** A fingerprint of `parseFingerprint` as certificates are shown: `SHA256:` and pairs of hex digits. */
export function hexFingerprint(fingerprint: string): string {
  const hex = Buffer.from(fingerprint.replace(/^SHA256:/, ''), 'base64')
    .toString('hex')
    .toUpperCase();
  return `SHA256:${hex.match(/../g)?.join(':')}`;
}
