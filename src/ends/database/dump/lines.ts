import { dumpChunks } from './reader.js';

/** The lines on which some bytes of a dump are, from 1. It is read up to the last of them. */
export async function linesAt(file: string, bytes: readonly number[]): Promise<number[]> {
  const lines = bytes.map(() => 1);
  if (file === '-' || bytes.length === 0) return lines;
  const last = Math.max(...bytes);
  let line = 1;
  let done = 0;
  for await (const chunk of dumpChunks(file)) {
    let from = 0;
    const marks = bytes
      .map((at, i) => ({ at: at - done, i }))
      .filter(({ at }) => at >= 0 && at <= chunk.length)
      .sort((a, b) => a.at - b.at);
    for (const { at, i } of [...marks, { at: chunk.length, i: -1 }]) {
      for (let next = chunk.indexOf(10, from); next >= 0 && next < at; next = chunk.indexOf(10, from)) {
        line++;
        from = next + 1;
      }
      if (i >= 0) lines[i] = line;
    }
    done += chunk.length;
    if (done > last) break;
  }
  return lines;
}
