declare const mark: unique symbol;

/**
 * A run of bytes held as a string, one byte a character (U+0000 to U+00FF), so that `length` and every
 * offset count bytes and the engine's native string search works on any data, valid UTF-8 or not.
 * The WHATWG Infra Standard calls the mapping "isomorphic decode".
 */
export type ByteString = string & { readonly [mark]: true };

/** The bytes of a buffer, one a character. */
export function bytesOf(buffer: Uint8Array): ByteString {
  return Buffer.from(buffer.buffer, buffer.byteOffset, buffer.byteLength).toString('latin1') as ByteString;
}

/** A run of bytes as a buffer, and as a string once somebody asks for it. */
export class Stretch {
  readonly bytes: Buffer;
  private text: ByteString | undefined;

  constructor(bytes: Buffer) {
    this.bytes = bytes;
  }

  get s(): ByteString {
    this.text ??= bytesOf(this.bytes);
    return this.text;
  }
}

/** The buffer that holds the bytes. */
export function bufferOf(bytes: ByteString): Buffer {
  return Buffer.from(bytes, 'latin1');
}

/** Its bytes are the same as text and as UTF-8, as those of nearly all paths are. */
const isPlain = (text: string) => text.length < 1000 && /^[ -~]*$/.test(text);

/** Text as its UTF-8 bytes. */
export function bytesOfText(text: string): ByteString {
  if (isPlain(text)) return text as ByteString;
  return Buffer.from(text, 'utf8').toString('latin1') as ByteString;
}

/** Bytes read as UTF-8; what is not valid becomes U+FFFD, so this is for showing, never for writing back. */
export function textOf(bytes: string): string {
  if (isPlain(bytes)) return bytes;
  return Buffer.from(bytes, 'latin1').toString('utf8');
}

/** Marks a piece of a byte string, or a string known to be ASCII, as bytes. */
export function asBytes(piece: string): ByteString {
  return piece as ByteString;
}

/** One change to a byte string: the bytes from `start` up to `end` become `put`. */
export interface Edit {
  readonly start: number;
  readonly end: number;
  readonly put: ByteString;
}

/** Carries out edits that are in order and do not overlap. */
export function applyEdits(bytes: ByteString, edits: readonly Edit[]): ByteString {
  let out = '';
  let at = 0;
  for (const edit of edits) {
    out += bytes.slice(at, edit.start) + edit.put;
    at = edit.end;
  }
  return (out + bytes.slice(at)) as ByteString;
}

/** Carries out edits on the first `end` bytes of a buffer: what no edit names is copied as it is. */
export function editedBuffer(bytes: Buffer, end: number, edits: readonly Edit[]): Buffer {
  const out = Buffer.allocUnsafeSlow(end + growth(edits));
  let from = 0;
  let to = 0;
  for (const edit of edits) {
    out.set(bytes.subarray(from, edit.start), to);
    to += edit.start - from;
    const { put } = edit;
    // A call into the engine costs more than writing some bytes one by one.
    if (put.length > 100) out.write(put, to, 'latin1');
    else for (let i = 0; i < put.length; i++) out[to + i] = put.charCodeAt(i);
    to += put.length;
    from = edit.end;
  }
  out.set(bytes.subarray(from, end), to);
  return out;
}

/** How many bytes longer (or, negative, shorter) the value is after the edits. */
export function growth(edits: readonly Edit[]): number {
  let bytes = 0;
  for (const edit of edits) bytes += edit.put.length - (edit.end - edit.start);
  return bytes;
}
