import { randomUUID } from 'node:crypto';
import { type FileHandle, open, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { FileEntry } from '../../core/files/entries.js';
import { whileDoing } from '../system-errors.js';
import { writeAllAt } from '../whole-file.js';

/** So many entries of one folder are held in memory; of more, sorted runs are kept in a file. */
const mostHeld = 50_000;
/** Bytes of a run that are read at a time. */
const runBytes = 32 * 1024;
const linesAtOnce = 1000;
const mergedAtOnce = 1000;

/** What one folder holds, in the order of the paths' bytes, however much that is. */
export class FolderEntries {
  /** Those in memory, in no order until all are there. */
  private held: FileEntry[] = [];
  private runs: Runs | undefined;
  private readonly mostHeld: number;

  /** @param most entries that are held in memory */
  constructor(most = mostHeld) {
    this.mostHeld = most;
  }

  /** How many are in memory. */
  get size(): number {
    return this.held.length;
  }

  /** Those in memory. */
  get near(): readonly FileEntry[] {
    return this.held;
  }

  async add(entries: readonly FileEntry[]): Promise<void> {
    for (const entry of entries) this.held.push(entry);
    if (this.held.length < this.mostHeld) return;
    this.runs ??= await Runs.open();
    await this.runs.add(sorted(this.held));
    this.held = [];
  }

  /** All of them, once they are all there, some at a time; what was reported twice comes once. */
  async *inOrder(): AsyncIterable<readonly FileEntry[]> {
    const rest = sorted(this.held);
    let last: string | undefined;
    for await (const batch of this.runs ? this.runs.merged(rest) : [rest]) {
      yield batch.filter(({ path }, i) => path !== (i > 0 ? batch[i - 1]!.path : last));
      last = batch.at(-1)?.path ?? last;
    }
  }

  async forget(): Promise<void> {
    await this.runs?.close();
  }
}

function sorted(entries: FileEntry[]): FileEntry[] {
  return entries.sort((a, b) => (a.path < b.path ? -1 : 1));
}

/** Sorted runs of entries in a file that nobody else sees. */
class Runs {
  private readonly file: FileHandle;
  private readonly places: { at: number; readonly end: number }[] = [];
  private end = 0;

  private constructor(file: FileHandle) {
    this.file = file;
  }

  static async open(): Promise<Runs> {
    const name = join(tmpdir(), `.able-porter-${randomUUID()}`);
    return whileDoing(`Writing ${name}`, async () => {
      const file = await open(name, 'wx+', 0o600);
      // It goes with the program, however that ends.
      await rm(name);
      return new Runs(file);
    });
  }

  async add(entries: readonly FileEntry[]): Promise<void> {
    const at = this.end;
    for (let i = 0; i < entries.length; i += linesAtOnce) {
      const lines = entries.slice(i, i + linesAtOnce).map(lineOf);
      const bytes = Buffer.from(lines.join(''));
      await whileDoing('Keeping a long listing', () => writeAllAt(this.file, bytes, this.end));
      this.end += bytes.length;
    }
    this.places.push({ at, end: this.end });
  }

  /** The entries of all runs, and of one that is in memory. */
  async *merged(rest: readonly FileEntry[]): AsyncIterable<readonly FileEntry[]> {
    const sources = [...this.places.map(place => this.read(place)), asBatch(rest)];
    const heads: { batch: readonly FileEntry[]; at: number; source: AsyncIterator<readonly FileEntry[]> }[] =
      [];
    for (const source of sources) {
      const { value } = await source.next();
      if (value?.length) heads.push({ batch: value, at: 0, source });
    }
    let merged: FileEntry[] = [];
    while (heads.length > 0) {
      let least = heads[0]!;
      for (const head of heads) if (head.batch[head.at]!.path < least.batch[least.at]!.path) least = head;
      if (merged.push(least.batch[least.at++]!) === mergedAtOnce) {
        yield merged;
        merged = [];
      }
      if (least.at < least.batch.length) continue;
      const { value } = await least.source.next();
      if (value?.length) Object.assign(least, { batch: value, at: 0 });
      else heads.splice(heads.indexOf(least), 1);
    }
    yield merged;
  }

  async close(): Promise<void> {
    await this.file.close();
  }

  private async *read({
    at,
    end,
  }: {
    at: number;
    readonly end: number;
  }): AsyncGenerator<readonly FileEntry[]> {
    let rest = Buffer.alloc(0);
    while (at < end) {
      const { buffer, bytesRead } = await whileDoing('Reading a long listing', () =>
        this.file.read(Buffer.allocUnsafe(Math.min(runBytes, end - at)), 0, undefined, at),
      );
      at += bytesRead;
      const bytes = Buffer.concat([rest, buffer.subarray(0, bytesRead)]);
      const whole = bytes.lastIndexOf('\n') + 1;
      rest = bytes.subarray(whole);
      const lines = bytes.toString('utf8', 0, whole).split('\n');
      const batch = lines.slice(0, -1).map(readLine);
      if (batch.length > 0) yield batch;
    }
  }
}

async function* asBatch(entries: readonly FileEntry[]): AsyncGenerator<readonly FileEntry[]> {
  if (entries.length > 0) yield entries;
}

function lineOf({ path, type, size, mode, mtime, to }: FileEntry): string {
  return `${JSON.stringify([path, type, size, mode, mtime, to])}\n`;
}

function readLine(line: string): FileEntry {
  const [path, type, size, mode, mtime, to] = JSON.parse(line);
  return { path, type, size, mode, mtime, to: to ?? undefined };
}
