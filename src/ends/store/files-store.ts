import { createReadStream } from 'node:fs';
import { asBytes, bytesOfText, textOf } from '../../core/bytes.js';
import { DamageError } from '../../core/errors.js';
import type { FileEntry } from '../../core/files/entries.js';
import { wholeOf } from '../content.js';
import type { FilesEnd } from '../files/files-end.js';
import type { FilesPlace } from '../files/place.js';
import type { FileToStore, Store, StoredFile, StoreOptions } from './store.js';

const nobodyElse = { mode: 0o600 };

/** A folder as a store: on this machine, or at a host that is reached like a site's files. */
export class FilesStore implements Store {
  private readonly place: FilesPlace;
  private readonly end: FilesEnd;

  constructor(place: FilesPlace) {
    this.place = place;
    this.end = place.open();
  }

  get text(): string {
    return this.place.text;
  }

  async folders(signal: AbortSignal): Promise<string[]> {
    return (await this.entriesIn(this.end, signal)).flatMap(({ type, path }) =>
      type === 'folder' ? [textOf(path)] : [],
    );
  }

  async files(folder: string, signal: AbortSignal): Promise<StoredFile[]> {
    const entries = await this.entriesIn(this.place.below(folder).open(), signal);
    return entries.flatMap(({ type, path, size }) =>
      type === 'file' ? [{ name: textOf(path), bytes: size }] : [],
    );
  }

  private async entriesIn(end: FilesEnd, signal: AbortSignal): Promise<FileEntry[]> {
    if (!(await end.isThere())) return [];
    const entries: FileEntry[] = [];
    for await (const entry of end.list(({ path }) => path.includes('/'), signal)) entries.push(entry);
    return entries;
  }

  async small(folder: string, name: string, most: number, signal: AbortSignal): Promise<Buffer | undefined> {
    const entry = await this.end.entry(pathOf(folder, name));
    if (entry?.type !== 'file') return undefined;
    if (entry.size > most) throw tooLarge(`${this.text}/${folder}/${name}`, entry.size);
    return wholeOf(this.read(folder, name, 0, signal));
  }

  async *read(folder: string, name: string, from: number, signal: AbortSignal): AsyncIterable<Buffer> {
    for await (const chunk of this.end.read(pathOf(folder, name), from)) {
      signal.throwIfAborted();
      yield chunk;
    }
  }

  async write(folder: string, name: string, content: Buffer): Promise<void> {
    const [path, partial] = [pathOf(folder, name), pathOf(folder, `${name}.partial`)];
    await this.end.write(partial, content, { ...nobodyElse, mtime: Date.now() });
    await this.end.replace(partial, path);
  }

  async put(folder: string, name: string, file: FileToStore, options: StoreOptions): Promise<void> {
    const [path, partial] = [pathOf(folder, name), pathOf(folder, `${name}.partial`)];
    const isIt = async (at: typeof path) =>
      (await this.end.checksums([at], options.signal)).get(at) === file.sha256;
    if ((await this.end.entry(path))?.size === file.bytes && (await isIt(path))) return;
    const there = this.end.canResume ? ((await this.end.entry(partial))?.size ?? 0) : 0;
    for (const from of there > 0 && there <= file.bytes ? [there, 0] : [0]) {
      const like = { ...nobodyElse, mtime: Date.now() };
      await this.end.write(partial, contentOf(file, from, options), like, from);
      // What was there in part may be of another run.
      if (await isIt(partial)) return this.end.replace(partial, path);
    }
    await this.end.remove(partial);
    throw new DamageError({
      doing: `Storing ${this.text}/${folder}/${name}`,
      cause: 'what arrived there is not what was sent',
      remedy: 'Run the command again; if it stays so, look at the disk of the store',
    });
  }

  async remove(folder: string, name: string): Promise<void> {
    await this.end.remove(pathOf(folder, name));
  }

  async removeFolder(folder: string): Promise<void> {
    await this.end.remove(bytesOfText(folder));
  }

  async close(): Promise<void> {}
}

function pathOf(folder: string, name: string) {
  return asBytes(bytesOfText(`${folder}/${name}`));
}

async function* contentOf(
  { file }: FileToStore,
  from: number,
  { signal, progress }: StoreOptions,
): AsyncIterable<Buffer> {
  let sent = from;
  for await (const chunk of createReadStream(file, { start: from, highWaterMark: 1 << 20 })) {
    signal.throwIfAborted();
    yield chunk as Buffer;
    sent += (chunk as Buffer).length;
    progress(sent);
  }
}

/** What an end would have to hold in memory, and nobody has written. */
export function tooLarge(what: string, bytes: number): DamageError {
  return new DamageError({
    doing: `Reading ${what}`,
    cause: `it has ${bytes} bytes, more than anything that Able Porter writes under this name`,
    remedy: 'Remove it from the store, or name the store that was meant',
  });
}
