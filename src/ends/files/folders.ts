import pMap from 'p-map';
import { byDepth, type FileEntry } from '../../core/files/entries.js';
import type { FileToWrite } from '../content.js';
import type { FilesEnd } from './files-end.js';

/** From so many folders on, a command at the far side is worth its round trips. */
const worthCommand = 4;
const nothing = Buffer.alloc(0);

/**
 * Makes folders, open to their owner while they are filled: with one command where the end runs commands, otherwise many
 * at a time, level by level.
 */
export async function makeFolders(
  end: FilesEnd,
  folders: readonly FileEntry[],
  signal: AbortSignal,
): Promise<void> {
  const open = folders.map(entry => ({ ...entry, mode: entry.mode | 0o700 }));
  if (await unpacked(end, open, signal)) return;
  for (const level of byDepth(folders, ({ path }) => path))
    await pMap(level, ({ path, mode }) => end.makeFolder(path, mode), { concurrency: end.atOnce, signal });
}

/** Sets modes and times of folders into which nothing more is put. @param folders the deepest first */
export async function finishFolders(
  end: FilesEnd,
  folders: readonly FileEntry[],
  signal: AbortSignal,
): Promise<void> {
  if (await unpacked(end, folders, signal)) return;
  await pMap(folders, entry => end.finishFolder(entry.path, entry), { concurrency: end.atOnce, signal });
}

/** Sends folders as a stream of which a command makes them, or gives them their modes and times. */
async function unpacked(end: FilesEnd, folders: readonly FileEntry[], signal: AbortSignal): Promise<boolean> {
  if (!end.writeMany || folders.length < worthCommand) return false;
  async function* stream(): AsyncIterable<FileToWrite> {
    for (const entry of folders) yield { entry, content: nothing };
  }
  try {
    return await end.writeMany(stream(), signal);
  } catch {
    signal.throwIfAborted();
    // One by one, what it stumbled over works or says why.
    return false;
  }
}
