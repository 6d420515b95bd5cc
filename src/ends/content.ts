/** What a file holds: all at once, or piece by piece. */
export type Content = Buffer | AsyncIterable<Buffer>;

/** A content piece by piece. */
export async function* chunksOf(content: Content): AsyncIterable<Buffer> {
  if (Buffer.isBuffer(content)) yield content;
  else yield* content;
}
