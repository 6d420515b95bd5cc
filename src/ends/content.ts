import type { FileEntry } from '../core/files/entries.js';

/** What a file holds: all at once, or piece by piece. */
export type Content = Buffer | AsyncIterable<Buffer>;

/** A content piece by piece. */
export async function* chunksOf(content: Content): AsyncIterable<Buffer> {
  if (Buffer.isBuffer(content)) yield content;
  else yield* content;
}

/** All of a content that is small. */
export async function wholeOf(content: AsyncIterable<Buffer>): Promise<Buffer> {
  const chunks: Buffer[] = [];
  for await (const chunk of content) chunks.push(Buffer.from(chunk));
  return Buffer.concat(chunks);
}

/** A file to be written as one of many. */
export interface FileToWrite {
  readonly entry: FileEntry;
  readonly content: Content;
}
