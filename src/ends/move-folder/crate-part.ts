import { createHash } from 'node:crypto';
import { createReadStream } from 'node:fs';
import { stat } from 'node:fs/promises';

/** One file of the crate besides those under `files/`. */
export interface CratePart {
  readonly bytes: number;
  readonly sha256: string;
}

/** Size and SHA-256 of a file on this machine. */
export async function checksumOf(file: string): Promise<CratePart> {
  const hash = createHash('sha256');
  for await (const chunk of createReadStream(file, { highWaterMark: 1 << 20 })) hash.update(chunk as Buffer);
  return { bytes: (await stat(file)).size, sha256: hash.digest('hex') };
}
