import { createHash, webcrypto } from 'node:crypto';
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
      sums.set(path, await sumOfContent(content));
    },
    { concurrency: atOnce, signal },
  );
  return sums;
}

async function sumOfContent(content: AsyncIterable<Buffer>): Promise<string> {
  const hash = createHash('sha256');
  let waiting: Buffer | undefined;
  let chunks = 0;
  for await (const chunk of content) {
    if (waiting) hash.update(waiting);
    waiting = chunk;
    chunks++;
  }
  if (chunks === 1) return sumAside(waiting!);
  if (waiting) hash.update(waiting);
  return hash.digest('hex');
}

/** To hand fewer bytes to another thread takes longer than their checksum. */
const fewBytes = 64 * 1024;

/** SHA-256 of bytes in memory, in hex; that of many is computed beside this thread. */
export async function sumAside(bytes: Buffer): Promise<string> {
  if (bytes.length < fewBytes) return createHash('sha256').update(bytes).digest('hex');
  return Buffer.from(await webcrypto.subtle.digest('SHA-256', bytes)).toString('hex');
}

/** SHA-256 of bytes, in hex. */
export function sha256Of(bytes: ByteString): string {
  return createHash('sha256').update(bufferOf(bytes)).digest('hex');
}
