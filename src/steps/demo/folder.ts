import { mkdtemp, readdir, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { UsageError } from '../../core/errors.js';
import { whileDoing } from '../../ends/system-errors.js';

/** The folder of a demo, empty. */
interface DemoFolder {
  readonly path: string;
  /** Removes it where it is not kept. */
  remove(): Promise<void>;
}

/**
 * @param keep a folder to keep it in; undefined for a temporary one
 * @param ours what an earlier demo may have left in it
 * @throws UsageError where something else is there
 */
export async function demoFolder(keep: string | undefined, ours: readonly string[]): Promise<DemoFolder> {
  if (keep !== undefined) return { path: await cleared(resolve(keep), ours), remove: async () => {} };
  const path = await mkdtemp(join(tmpdir(), 'able-porter-demo-'));
  return { path, remove: () => rm(path, { recursive: true, force: true }) };
}

async function cleared(folder: string, ours: readonly string[]): Promise<string> {
  const names = await readdir(folder).catch(() => []);
  const foreign = names.find(name => !ours.includes(name));
  if (foreign !== undefined) {
    throw new UsageError({
      doing: `Creating the demo in ${folder}`,
      cause: `something else (${foreign}) is there`,
      remedy: 'Name an empty folder, or one in which the demo was before',
    });
  }
  for (const name of names)
    await whileDoing(`Clearing ${folder}`, () => rm(join(folder, name), { recursive: true }));
  return folder;
}
