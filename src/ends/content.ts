/** A buffer as the content of a file. */
export async function* oneChunk(chunk: Buffer): AsyncIterable<Buffer> {
  yield chunk;
}
