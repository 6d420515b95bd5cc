import { deflateRawSync, inflateRawSync } from 'node:zlib';
import { type ByteString, bytesOf, type Edit } from '../../bytes.js';

/** A value that inflates to more is left: it is no page of a site. Bytes. */
const mostInflated = 64 * 1024 * 1024;

/**
 * Opens a value that may be compressed as PHP's gzdeflate does (RFC 1951, without a header).
 * @returns undefined where it is not, as a whole
 */
export function inflated(value: ByteString): ByteString | undefined {
  // No compressed value is shorter, and most others begin with a block of a kind that there is not.
  if (value.length < 3 || (value.charCodeAt(0) & 6) === 6) return undefined;
  try {
    const { buffer, engine } = inflateRawSync(Buffer.from(value, 'latin1'), {
      maxOutputLength: mostInflated,
      info: true,
    } as { maxOutputLength: number; info: true }) as unknown as {
      readonly buffer: Buffer;
      readonly engine: { readonly bytesWritten: number };
    };
    return engine.bytesWritten === value.length ? bytesOf(buffer) : undefined;
  } catch {
    return undefined;
  }
}

/** The edit that puts a changed content in place of a compressed value. */
export function deflatedEdit(value: ByteString, content: ByteString): Edit {
  return { start: 0, end: value.length, put: bytesOf(deflateRawSync(Buffer.from(content, 'latin1'))) };
}
