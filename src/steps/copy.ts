import { createHash } from 'node:crypto';
import type { ByteString } from '../core/bytes.js';
import type { FileEntry } from '../core/files/entries.js';
import type { FilesEnd } from '../ends/files/files-end.js';

/** Copies a file with its mode and time; gives its SHA-256. */
export async function copyChecked(from: FilesEnd, to: FilesEnd, entry: FileEntry): Promise<string> {
  const hash = createHash('sha256');
  async function* passing() {
    for await (const chunk of from.read(entry.path)) {
      hash.update(chunk);
      yield chunk;
    }
  }
  await to.write(entry.path, passing(), entry);
  return hash.digest('hex');
}

/** Removes what an earlier run put there and is not wanted any more, or is wanted as something else. */
export async function removeOthers(
  files: FilesEnd,
  wanted: readonly FileEntry[],
  signal: AbortSignal,
): Promise<void> {
  if (!(await files.isThere())) return;
  const types = new Map<string, FileEntry['type']>(wanted.map(({ path, type }) => [path, type]));
  const others: ByteString[] = [];
  const skip = ({ path, type }: FileEntry) => {
    if (types.get(path) === type) return false;
    others.push(path);
    return true;
  };
  for await (const _ of files.list(skip, signal)) {
    // Only what is skipped counts.
  }
  for (const path of others) await files.remove(path);
}
