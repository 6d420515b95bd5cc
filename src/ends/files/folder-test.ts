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
      const content = Buffer.alloc(2000, 'x');
      async function* asStream() {
        const like = {
          type: 'file',
          size: content.length,
          mode: 0o644,
          mtime: Date.now(),
          to: undefined,
        } as const;
        while (files < smallFiles) yield { entry: { path: at(`small-${files++}`), ...like }, content };
      }
      const small = await secondsOf(async isLong => {
        // As a delivery would: together, where that is possible.
        if (await end.writeMany?.(asStream(), signal)) return;
        files = 0;
        do await end.write(at(`small-${files++}`), content);
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
  const few = (await readTogether(end, small, signal)) ?? (await read(small));
  const many = await read(large.length > 0 ? large : small);
  return {
    perFile: small.length > 0 ? few.seconds / few.files : 0,
    bytesPerSecond: many.bytes / Math.max(many.seconds, 0.001),
  };
}

/** The same for files that come as one stream, where the end can give one. */
async function readTogether(end: FilesEnd, entries: readonly FileEntry[], signal: AbortSignal) {
  if (!end.readMany || entries.length === 0) return undefined;
  let files = 0;
  let stream: Awaited<ReturnType<typeof end.readMany>>;
  const seconds = await secondsOf(async () => {
    stream = await end.readMany!(
      entries.map(({ path }) => path),
      signal,
    );
    for await (const { content } of stream ?? []) {
      files++;
      for await (const _ of content) signal.throwIfAborted();
    }
  });
  return stream && files > 0 ? { seconds, files } : undefined;
}

/** @param work is given a function that says whether it has taken long enough */
async function secondsOf(work: (isLong: () => boolean) => Promise<void>): Promise<number> {
  const began = performance.now();
  const seconds = () => (performance.now() - began) / 1000;
  await work(() => seconds() > longest);
  return seconds();
}
