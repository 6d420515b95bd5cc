import { createHash, randomBytes } from 'node:crypto';
import { createReadStream, createWriteStream } from 'node:fs';
import { mkdir, rename, rm, stat, truncate } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';

/** An object, or a piece of one that is not whole. */
export interface HeldObject {
  readonly file: string;
  readonly bytes: number;
  /** MD5 in hex, as most services show it; of an object in pieces, that of their MD5s, with their number. */
  readonly tag: string;
  readonly metadata: Readonly<Record<string, string>>;
}

interface Upload {
  readonly key: string;
  readonly metadata: Readonly<Record<string, string>>;
  readonly pieces: Map<number, HeldObject>;
}

/** What a simulated service holds: contents in files of a folder, everything else in memory. */
export class HeldObjects {
  readonly objects = new Map<string, HeldObject>();
  readonly uploads = new Map<string, Upload>();
  private readonly folder: string;
  private files = 0;

  constructor(folder: string) {
    this.folder = folder;
  }

  /**
   * Takes a content, if it is what was signed.
   * @param sha256 in hex
   * @returns undefined where it is another
   */
  async take(
    content: Readable,
    sha256: string,
    metadata: Readonly<Record<string, string>>,
  ): Promise<HeldObject | undefined> {
    await mkdir(this.folder, { recursive: true });
    const file = join(this.folder, String(++this.files));
    const [md5, sum] = [createHash('md5'), createHash('sha256')];
    await pipeline(
      content,
      async function* (chunks: AsyncIterable<Buffer>) {
        for await (const chunk of chunks) {
          md5.update(chunk);
          sum.update(chunk);
          yield chunk;
        }
      },
      createWriteStream(file),
    );
    if (sum.digest('hex') !== sha256) {
      await rm(file);
      return undefined;
    }
    return { file, bytes: (await stat(file)).size, tag: md5.digest('hex'), metadata };
  }

  async put(key: string, object: HeldObject): Promise<void> {
    await this.remove(key);
    this.objects.set(key, object);
  }

  async remove(key: string): Promise<void> {
    const { file } = this.objects.get(key) ?? {};
    this.objects.delete(key);
    if (file !== undefined) await rm(file, { force: true });
  }

  begin(key: string, metadata: Readonly<Record<string, string>>): string {
    const id = randomBytes(16).toString('hex');
    this.uploads.set(id, { key, metadata, pieces: new Map() });
    return id;
  }

  async abort(id: string): Promise<void> {
    for (const { file } of this.uploads.get(id)?.pieces.values() ?? []) await rm(file, { force: true });
    this.uploads.delete(id);
  }

  /** Puts the pieces together that are named. @returns an error code of the API where that cannot be */
  async complete(
    id: string,
    named: readonly { readonly number: number; readonly tag: string }[],
  ): Promise<string | undefined> {
    const { key, metadata, pieces } = this.uploads.get(id)!;
    const parts = named.map(({ number }) => pieces.get(number));
    if (named.length === 0 || named.some(({ tag }, i) => parts[i]?.tag !== tag)) return 'InvalidPart';
    if (named.some(({ number }, i) => i > 0 && number <= named[i - 1]!.number)) return 'InvalidPartOrder';
    const least = 5 * 1024 * 1024;
    if (parts.slice(0, -1).some(part => part!.bytes < least)) return 'EntityTooSmall';
    const whole = join(this.folder, String(++this.files));
    await rename(parts[0]!.file, whole);
    for (const part of parts.slice(1))
      await pipeline(createReadStream(part!.file), createWriteStream(whole, { flags: 'a' }));
    const bytes = parts.reduce((sum, part) => sum + part!.bytes, 0);
    const sums = Buffer.concat(parts.map(part => Buffer.from(part!.tag, 'hex')));
    const tag = `${createHash('md5').update(sums).digest('hex')}-${parts.length}`;
    await this.put(key, { file: whole, bytes, tag, metadata });
    await this.abort(id);
    return undefined;
  }

  /** Cuts an object short, as a disk does that fails. */
  async damage(key: string, bytes: number): Promise<void> {
    const object = this.objects.get(key)!;
    await truncate(object.file, bytes);
    this.objects.set(key, { ...object, bytes });
  }
}
