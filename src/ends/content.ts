import type { FileEntry } from '../core/files/entries.js';

/** What a file holds: all at once, or piece by piece. */
export type Content = Buffer | AsyncIterable<Buffer>;

/** A content piece by piece. */
export async function* chunksOf(content: Content): AsyncIterable<Buffer> {
  if (Buffer.isBuffer(content)) yield content;
  else yield* content;
}

/** A file to be written as one of many. */
export interface FileToWrite {
  readonly entry: FileEntry;
  readonly content: Content;
}
