import { chown, open, rename, rm, stat } from 'node:fs/promises';
import { whileDoing } from '../system-errors.js';

/**
 * Puts other content in place of a file, through a temporary one beside it: a reader sees the one or the other,
 * never half of it. The mode is kept, and the owner where the account may give files away.
 * @param file its path as bytes
 */
export async function replaceFile(file: Buffer, content: Buffer): Promise<void> {
  await whileDoing(`Writing ${file.toString()}`, async () => {
    const { mode, uid, gid } = await stat(file);
    const slash = file.lastIndexOf('/') + 1;
    const beside = Buffer.concat([
      file.subarray(0, slash),
      Buffer.from('.'),
      file.subarray(slash),
      Buffer.from('.partial'),
    ]);
    try {
      await rm(beside, { force: true });
      const handle = await open(beside, 'wx', mode & 0o7777);
      try {
        await handle.writeFile(content);
        await handle.chmod(mode & 0o7777);
        await handle.sync();
      } finally {
        await handle.close();
      }
      await chown(beside, uid, gid).catch(() => {});
      await rename(beside, file);
    } catch (error) {
      await rm(beside, { force: true });
      throw error;
    }
  });
}
