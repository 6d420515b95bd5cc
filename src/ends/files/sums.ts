import { createHash } from 'node:crypto';
import pMap from 'p-map';
import { type ByteString, bufferOf } from '../../core/bytes.js';

/** SHA-256 of files by reading them, several at once. @param open gives a file's content, or undefined where it is not there */
export async function sumsByReading(
  paths: readonly ByteString[],
  atOnce: number,
  signal: AbortSignal,
  open: (path: ByteString) => Promise<AsyncIterable<Buffer> | undefined>,
): Promise<Map<ByteString, string>> {
  const sums = new Map<ByteString, string>();
  await pMap(
    paths,
    async path => {
      const content = await open(path);
      if (!content) return;
      const hash = createHash('sha256');
      for await (const chunk of content) hash.update(chunk);
      sums.set(path, hash.digest('hex'));
    },
    { concurrency: atOnce, signal },
  );
  return sums;
}

/** SHA-256 of bytes, in hex. */
export function sha256Of(bytes: ByteString): string {
  return createHash('sha256').update(bufferOf(bytes)).digest('hex');
}
