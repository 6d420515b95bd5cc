import { mkdir } from 'node:fs/promises';
import { dirname } from 'node:path';
import writeFileAtomic from 'write-file-atomic';

/**
 * Writes a small file through a temporary one beside it, so that it is never seen half-written.
 * @param mode of the file where it is not there yet, or is to change
 */
export async function writeWhole(file: string, content: string | Buffer, mode?: number): Promise<void> {
  await mkdir(dirname(file), { recursive: true });
  await writeFileAtomic(file, content, mode === undefined ? {} : { mode });
}
