import { asBytes, type ByteString } from '../../bytes.js';

/** A label has at most 63 bytes, a name 255 with its lengths (RFC 1035, section 2.3.4). */
const longestLabel = 63;
const longestName = 255;

/**
 * A domain name as a zone file writes it: absolute, with its closing dot, and with the escapes of RFC 1035, section 5.1
 * (`\.`, `\DDD`) only where they are needed. Letter case is kept, and ignored by `sameName`.
 */
export type DnsName = string & { readonly [mark]: true };
declare const mark: unique symbol;

export const rootName = '.' as DnsName;

/**
 * Reads a name as a zone file writes it.
 * @param origin completes a relative name; without it every name is taken as absolute
 * @throws an Error that says what is wrong with it
 */
export function parseName(text: string, origin: DnsName = rootName): DnsName {
  if (text === '@') return origin;
  if (text === '.') return rootName;
  const labels: ByteString[] = [];
  let label = '';
  for (let at = 0; at < text.length; at++) {
    const char = text[at]!;
    if (char === '.') {
      labels.push(checkedLabel(label, text));
      label = '';
    } else if (char === '\\') {
      const escaped = unescapeAt(text, at);
      label += escaped.byte;
      at = escaped.end - 1;
    } else label += char;
  }
  // A relative name does not end with a dot.
  if (label === '' && labels.length > 0) return nameOf(labels);
  return nameOf([...labels, checkedLabel(label, text), ...labelsOf(origin)]);
}

/** A host name as URLs write it, without the closing dot. */
export function nameOfHost(host: string): DnsName {
  return parseName(host.replace(/\.$/, '').toLowerCase());
}

/** A name as URLs and people write it. */
export function hostOf(name: DnsName): string {
  return name === rootName ? name : name.slice(0, -1);
}

/** The byte that an escape at a place of a text means (RFC 1035, section 5.1), and where the escape ends. */
export function unescapeAt(text: string, at: number): { byte: ByteString; end: number } {
  const digits = /^\d{3}/.exec(text.slice(at + 1, at + 4))?.[0];
  if (digits === undefined) {
    if (at + 1 >= text.length) throw new Error(`${JSON.stringify(text)} ends with a backslash`);
    return { byte: asBytes(text[at + 1]!), end: at + 2 };
  }
  if (Number(digits) > 255) throw new Error(`\\${digits} is no byte`);
  return { byte: asBytes(String.fromCharCode(Number(digits))), end: at + 4 };
}

function checkedLabel(label: string, text: string): ByteString {
  if (label === '') throw new Error(`the name ${JSON.stringify(text)} has an empty label`);
  if (label.length > longestLabel) throw new Error(`a label of ${JSON.stringify(text)} is too long`);
  return asBytes(label);
}

/** The name with these labels, each as its bytes. @throws an Error where it is too long */
export function nameOf(labels: readonly ByteString[]): DnsName {
  const length = labels.reduce((sum, label) => sum + label.length + 1, 1);
  if (length > longestName) throw new Error('a name is longer than 255 bytes');
  if (labels.length === 0) return rootName;
  return labels.map(label => `${label.replace(/[^\w*-]/g, escaped)}.`).join('') as DnsName;
}

function escaped(char: string): string {
  const code = char.charCodeAt(0);
  if (code <= 0x20 || code >= 0x7f) return `\\${String(code).padStart(3, '0')}`;
  return '."$();@\\'.includes(char) ? `\\${char}` : char;
}

/** Its labels as bytes, the first of the name first; none of the root. */
export function labelsOf(name: DnsName): ByteString[] {
  if (name === rootName) return [];
  if (!name.includes('\\')) return name.split('.').slice(0, -1) as ByteString[];
  const labels: ByteString[] = [];
  let label = '';
  for (let at = 0; at < name.length; at++) {
    if (name[at] === '.') {
      labels.push(asBytes(label));
      label = '';
    } else if (name[at] === '\\') {
      const { byte, end } = unescapeAt(name, at);
      label += byte;
      at = end - 1;
    } else label += name[at];
  }
  return labels;
}

/** The form in which equal names are the same text (RFC 4343). */
export function keyOf(name: DnsName): DnsName {
  return name.toLowerCase() as DnsName;
}

export function sameName(a: DnsName, b: DnsName): boolean {
  return keyOf(a) === keyOf(b);
}

/** Whether a name is another one or lies below it. */
export function isWithin(name: DnsName, above: DnsName): boolean {
  if (above === rootName) return true;
  const [inner, outer] = [labelsOf(keyOf(name)), labelsOf(keyOf(above))];
  const skipped = inner.length - outer.length;
  return skipped >= 0 && outer.every((label, i) => inner[skipped + i] === label);
}

/** The name one label up; that of the root is the root. */
export function parentOf(name: DnsName): DnsName {
  return nameOf(labelsOf(name).slice(1));
}

/** A name in front of another one. */
export function below(prefix: string, name: DnsName): DnsName {
  return parseName(prefix, name);
}

/** A name as it is written below an origin: `@`, relative, or absolute where it lies elsewhere. */
export function relativeName(name: DnsName, origin: DnsName): string {
  if (sameName(name, origin)) return '@';
  if (origin === rootName || !isWithin(name, origin)) return name;
  const own = labelsOf(name).length - labelsOf(origin).length;
  return nameOf(labelsOf(name).slice(0, own)).slice(0, -1);
}

/** A name on the wire, not compressed (RFC 1035, section 3.1). */
export function nameToWire(name: DnsName): Buffer {
  const parts = labelsOf(name).map(label => String.fromCharCode(label.length) + label);
  return Buffer.from(`${parts.join('')}\0`, 'latin1');
}

/**
 * Reads a name on the wire; pointers lead to names before it (RFC 1035, section 4.1.4).
 * @returns the name and where what follows it begins
 * @throws an Error where it is cut off, or its pointers lead forwards
 */
export function nameFromWire(message: Buffer, start: number): { name: DnsName; end: number } {
  const labels: ByteString[] = [];
  let end: number | undefined;
  let limit = start;
  for (let at = start; ; ) {
    const length = message.readUInt8(at);
    if (length === 0) return { name: nameOf(labels), end: end ?? at + 1 };
    if (length >= 0xc0) {
      end ??= at + 2;
      at = message.readUInt16BE(at) & 0x3fff;
      // Each leads further back, so that none leads in a circle.
      if (at >= limit) throw new Error('a compressed name leads forwards');
      limit = at;
    } else if (length > longestLabel) throw new Error('a label of unknown kind');
    else {
      if (at + 1 + length >= message.length) throw new Error('a name is cut off');
      labels.push(asBytes(message.toString('latin1', at + 1, at + 1 + length)));
      at += 1 + length;
    }
  }
}
