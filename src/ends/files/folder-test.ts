import { randomBytes } from 'node:crypto';
import { asBytes, bytesOfText } from '../../core/bytes.js';
import { isNotFound } from '../../core/errors.js';
import type { Rate } from '../../core/estimate.js';
import type { FileEntry } from '../../core/files/entries.js';
import type { FilesEnd } from './files-end.js';

/** What an end lets this account do. */
export interface FolderTest {
  readonly writable: boolean;
  readonly renames: boolean;
  readonly links: boolean;
  readonly write: Rate | undefined;
}

const largeBytes = 4 * 1024 * 1024;
/** So many small files tell what a file costs, or as many as are done in some seconds; there is always one. */
const smallFiles = 20;
const longest = 0.25;

/**
 * Tries in a folder of its own what a delivery will do, and takes the folder away again.
 * @param name of the move; what a killed trial of it left is removed first
 */
export async function testFolder(end: FilesEnd, name: string, signal: AbortSignal): Promise<FolderTest> {
  const folder = bytesOfText(`.able-porter-trial-${name}`);
  const at = (name: string) => asBytes(`${folder}/${name}`);
  const works = async (work: () => Promise<void>) =>
    work().then(
      () => true,
      () => {
        signal.throwIfAborted();
        return false;
      },
    );
  let write: Rate | undefined;
  try {
    const writable = await works(async () => {
      await end.remove(folder);
      await end.makeFolder(folder, 0o700);
      let files = 0;
      const small = await secondsOf(async isLong => {
        do await end.write(at(`small-${files++}`), Buffer.alloc(2000, 'x'));
        while (files < smallFiles && !isLong());
      });
      const large = await secondsOf(() => end.write(at('large'), randomBytes(largeBytes)));
      write = { perFile: small / files, bytesPerSecond: largeBytes / Math.max(large, 0.001) };
    });
    const [renames, links] = await Promise.all([
      writable && works(() => end.rename(at('large'), at('renamed'))),
      writable && works(() => end.makeLink(at('link'), asBytes('renamed'))),
    ]);
    return { writable, renames, links, write };
  } finally {
    await end.remove(folder).catch(() => {
      // Where nothing could be written there is nothing to remove.
    });
  }
}

/** How fast some files of an end are read: the small ones tell the cost of a file, the large ones the rate. */
export async function tryReading(
  end: FilesEnd,
  samples: readonly FileEntry[],
  signal: AbortSignal,
): Promise<Rate | undefined> {
  const small = samples.filter(({ size }) => size <= 64 * 1024).slice(0, smallFiles);
  const large = samples.filter(({ size }) => size > 64 * 1024);
  if (samples.length === 0) return undefined;
  const read = async (entries: readonly FileEntry[]) => {
    let [bytes, files] = [0, 0];
    const seconds = await secondsOf(async isLong => {
      for (const { path } of entries) {
        if (files > 0 && isLong()) return;
        files++;
        try {
          for await (const part of end.read(path)) {
            signal.throwIfAborted();
            bytes += part.length;
            if (bytes > largeBytes) return;
          }
        } catch (error) {
          // Somebody may have removed it since it was listed.
          if (!isNotFound(error)) throw error;
        }
      }
    });
    return { bytes, seconds, files };
  };
  const few = await read(small);
  const many = await read(large.length > 0 ? large : small);
  return {
    perFile: small.length > 0 ? few.seconds / few.files : 0,
    bytesPerSecond: many.bytes / Math.max(many.seconds, 0.001),
  };
}

/** @param work is given a function that says whether it has taken long enough */
async function secondsOf(work: (isLong: () => boolean) => Promise<void>): Promise<number> {
  const began = performance.now();
  const seconds = () => (performance.now() - began) / 1000;
  await work(() => seconds() > longest);
  return seconds();
}
