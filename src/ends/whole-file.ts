import { type FileHandle, mkdir } from 'node:fs/promises';
import { dirname } from 'node:path';
import writeFileAtomic from 'write-file-atomic';

/**
 * Writes a small file through a temporary one beside it, so that it is never seen half-written.
 * @param mode of the file; where nothing is said, its owner alone can read it
 */
export async function writeWhole(file: string, content: string | Buffer, mode = 0o600): Promise<void> {
  await mkdir(dirname(file), { recursive: true, mode: 0o700 });
  await writeFileAtomic(file, content, { mode });
}

/** Writes all of some bytes at a place of an open file: a disk that is nearly full takes a part of them and reports nothing. */
export async function writeAllAt(file: FileHandle, bytes: Buffer, at: number): Promise<void> {
  for (let written = 0; written < bytes.length; )
    written += (await file.write(bytes, written, bytes.length - written, at + written)).bytesWritten;
}
