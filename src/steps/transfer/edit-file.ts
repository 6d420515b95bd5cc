import { asBytes, type ByteString } from '../../core/bytes.js';
import { PartWayError } from '../../core/errors.js';
import type { FilesEnd } from '../../ends/files/files-end.js';

/**
 * Writes a file beside the one that is there and puts it in its place; nobody sees half of it.
 * @param before its content as it was read; undefined where none was there
 * @throws PartWayError where somebody has changed it since
 */
export async function replaceIf(
  end: FilesEnd,
  name: ByteString,
  {
    before,
    after,
    file,
  }: { readonly before: Buffer | undefined; readonly after: Buffer; readonly file: string },
): Promise<void> {
  const was = await end.entry(name);
  const beside = asBytes(`${name}.able-porter-new`);
  // With the time of the file that it takes the place of: what is taken back is then as it was.
  await end.write(beside, after, { mode: was?.mode ?? 0o644, mtime: was?.mtime ?? Date.now() });
  const now = await contentOf(end, name);
  if (now === undefined || before === undefined ? now !== before : !now.equals(before)) {
    await end.remove(beside);
    throw new PartWayError({
      doing: `Writing ${file}`,
      cause: 'somebody changed it at the same moment, so it was left as it is',
      remedy: 'Run the command again',
    });
  }
  if (before) await end.replace(beside, name);
  else await end.rename(beside, name);
}

/** The content of a file of an end; undefined where none is there. */
export async function contentOf(end: FilesEnd, name: ByteString): Promise<Buffer | undefined> {
  if ((await end.entry(name))?.type !== 'file') return undefined;
  const chunks: Buffer[] = [];
  for await (const chunk of end.read(name)) chunks.push(chunk);
  return Buffer.concat(chunks);
}
