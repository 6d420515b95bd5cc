import { asBytes, type ByteString } from '../../core/bytes.js';
import type { FileEntry } from '../../core/files/entries.js';
import type { FilesEnd } from './files-end.js';

/**
 * Ends an exchange of which a part may be done: it is completed where its first half is, otherwise nothing has changed.
 * @param error what came back
 * @throws the error, with what was at `to` there again
 */
export async function endExchange(
  end: FilesEnd,
  { from, to, aside }: { readonly from: ByteString; readonly to: ByteString; readonly aside: ByteString },
  error: unknown,
): Promise<void> {
  if (!(await end.entry(from))) return;
  if ((await end.entry(to)) || !(await end.entry(aside))) throw error;
  try {
    await end.rename(from, to);
  } catch {
    await end.rename(aside, to);
    throw error;
  }
}

/** Copies a small file: it has its new name once it is whole. */
export async function copyFile(end: FilesEnd, { path, ...like }: FileEntry, to: ByteString): Promise<void> {
  const partial = asBytes(`${to}.partial`);
  const chunks: Buffer[] = [];
  for await (const chunk of end.read(path)) chunks.push(chunk);
  await end.write(partial, Buffer.concat(chunks), like);
  await end.replace(partial, to);
}
