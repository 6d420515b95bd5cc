import { createHash } from 'node:crypto';
import { stat } from 'node:fs/promises';
import type { FileEntry } from '../../core/files/entries.js';
import { whileDoing } from '../../ends/system-errors.js';

/** What distinguishes one state of a file from another without reading it: size and time. */
export async function identityOf(file: string | undefined): Promise<unknown> {
  if (file === undefined) return undefined;
  const { size, mtimeMs } = await whileDoing(`Looking at ${file}`, () => stat(file));
  return { file, size, mtimeMs };
}

/** A digest of a tree's listing. */
export async function identityOfTree(entries: AsyncIterable<FileEntry>): Promise<string> {
  const identity = new TreeIdentity();
  for await (const entry of entries) identity.add(entry);
  return identity.digest();
}

/** Takes a digest of a tree's listing. */
export class TreeIdentity {
  private readonly hash = createHash('sha256');

  add({ path, type, size, mtime, mode, to }: FileEntry): void {
    this.hash.update(`${JSON.stringify([path, type, size, mtime, mode, to ?? ''])}\n`);
  }

  /** The entries as they pass, which count. */
  async *through(entries: AsyncIterable<FileEntry>): AsyncIterable<FileEntry> {
    for await (const entry of entries) {
      this.add(entry);
      yield entry;
    }
  }

  digest(): string {
    return this.hash.digest('hex');
  }
}
