import { Readable } from 'node:stream';
import { createBrotliDecompress, createGunzip, createInflate } from 'node:zlib';

/** What came of a body. */
export interface ReadBody {
  readonly bytes: Buffer;
  /** `cut` where the connection ended before all was sent, `too long` where the rest was not read. */
  readonly state: 'whole' | 'cut' | 'too long' | 'undecodable';
  /** How many bytes came over the line, as far as it was read. */
  readonly sent: number;
}

const decoders = {
  gzip: createGunzip,
  'x-gzip': createGunzip,
  deflate: createInflate,
  br: createBrotliDecompress,
} as const;

/**
 * Reads a body and unpacks it (RFC 9110, 8.4), up to so many bytes of each: what unpacks to more is not read on.
 * @param encoding of the `Content-Encoding` header
 */
export async function readBody(
  body: AsyncIterable<Buffer>,
  encoding: string | undefined,
  most: number,
): Promise<ReadBody> {
  let sent = 0;
  let isCut = false;
  async function* line(): AsyncIterable<Buffer> {
    try {
      for await (const chunk of body) {
        sent += chunk.length;
        yield chunk;
        if (sent > most) return;
      }
    } catch {
      isCut = true;
    }
  }
  const decoder = decoders[encoding?.trim().toLowerCase() as keyof typeof decoders]?.();
  const unpacked = decoder
    ? Readable.from(line(), { objectMode: false })
        .on('error', () => {})
        .pipe(decoder)
    : line();
  const chunks: Buffer[] = [];
  let size = 0;
  let isUndecodable = false;
  try {
    for await (const chunk of unpacked as AsyncIterable<Buffer>) {
      size += chunk.length;
      chunks.push(chunk);
      if (size > most) break;
    }
  } catch {
    isUndecodable = !isCut && sent <= most;
  }
  decoder?.destroy();
  const state =
    size > most || sent > most ? 'too long' : isCut ? 'cut' : isUndecodable ? 'undecodable' : 'whole';
  return { bytes: Buffer.concat(chunks).subarray(0, most), state, sent };
}
