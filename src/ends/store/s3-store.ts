import { readFile } from 'node:fs/promises';
import {
  DeleteObjectCommand,
  GetObjectCommand,
  HeadObjectCommand,
  ListObjectsV2Command,
  PutObjectCommand,
} from '@aws-sdk/client-s3';
import { DamageError, isNotFound, PorterError } from '../../core/errors.js';
import type { S3Place } from '../../core/store/s3-place.js';
import { BackOff } from '../back-off.js';
import { tooLarge } from './files-store.js';
import { S3Bucket, type S3Wish } from './s3-bucket.js';
import { abandonUploads, pieceBytes, S3Upload } from './s3-upload.js';
import type { FileToStore, Store, StoredFile, StoreOptions } from './store.js';

/** A bucket, or a part of one, as a store (the API of Amazon S3, with signatures of version 4). */
export class S3Store implements Store {
  readonly text: string;
  private readonly prefix: string;
  private readonly bucket: S3Bucket;

  constructor(place: S3Place, wish: S3Wish) {
    const { bucket, prefix } = place;
    this.prefix = prefix === '' ? '' : `${prefix}/`;
    this.bucket = new S3Bucket(place, wish);
    this.text = `s3://${bucket}${prefix === '' ? '' : `/${prefix}`}`;
  }

  async folders(signal: AbortSignal): Promise<string[]> {
    const names: string[] = [];
    for await (const { CommonPrefixes } of this.pages(this.prefix, signal, '/'))
      names.push(...(CommonPrefixes ?? []).map(one => one.Prefix!.slice(this.prefix.length, -1)));
    return names;
  }

  async files(folder: string, signal: AbortSignal): Promise<StoredFile[]> {
    const files: StoredFile[] = [];
    const prefix = this.key(folder, '');
    for await (const { Contents } of this.pages(prefix, signal))
      for (const { Key, Size } of Contents ?? [])
        files.push({ name: Key!.slice(prefix.length), bytes: Size ?? 0 });
    return files;
  }

  private async *pages(Prefix: string, wish: AbortSignal, Delimiter?: string) {
    const { name: Bucket } = this.bucket;
    let next: string | undefined;
    do {
      const query = { Bucket, Prefix, Delimiter, ContinuationToken: next };
      const page = await this.bucket.ask('Listing', Prefix, wish, (client, signal) =>
        client.send(new ListObjectsV2Command(query), signal),
      );
      yield page;
      next = page.IsTruncated ? page.NextContinuationToken : undefined;
    } while (next !== undefined);
  }

  async small(folder: string, name: string, most: number, signal: AbortSignal): Promise<Buffer | undefined> {
    const chunks: Buffer[] = [];
    let bytes = 0;
    try {
      for await (const chunk of this.read(folder, name, 0, signal)) {
        bytes += chunk.length;
        if (bytes > most) throw tooLarge(`${this.text}/${folder}/${name}`, bytes);
        chunks.push(chunk);
      }
    } catch (error) {
      if (isNotFound(error)) return undefined;
      throw error;
    }
    return Buffer.concat(chunks);
  }

  async *read(folder: string, name: string, from: number, wish: AbortSignal): AsyncIterable<Buffer> {
    const { name: Bucket } = this.bucket;
    const Key = this.key(folder, name);
    const backOff = new BackOff(this.text);
    for (let at = from; ; ) {
      try {
        const query = { Bucket, Key, ...(at > 0 ? { Range: `bytes=${at}-` } : {}) };
        const { Body } = await this.bucket.ask('Reading', Key, wish, (client, signal) =>
          client.send(new GetObjectCommand(query), signal),
        );
        for await (const chunk of Body as unknown as AsyncIterable<Buffer>) {
          wish.throwIfAborted();
          at += chunk.length;
          backOff.reset();
          yield chunk;
        }
        return;
      } catch (error) {
        wish.throwIfAborted();
        // What the service itself answered was tried often enough. A stream that broke is continued.
        if (error instanceof PorterError) throw error;
        await backOff.wait(() => {}, error);
      }
    }
  }

  async write(folder: string, name: string, content: Buffer, signal: AbortSignal): Promise<void> {
    await this.putWhole(this.key(folder, name), content, {}, signal);
  }

  async put(folder: string, name: string, file: FileToStore, options: StoreOptions): Promise<void> {
    const Key = this.key(folder, name);
    const { signal, progress } = options;
    const { bytes, sha256 } = file;
    if (!(await this.holds(Key, file, signal))) {
      if (bytes > pieceBytes) await new S3Upload(this.bucket, Key, file, options).run();
      else await this.putWhole(Key, await readFile(file.file), { sha256 }, signal);
      if (!(await this.holds(Key, file, signal))) throw notWhole(`${this.text}/${folder}/${name}`);
    }
    progress(bytes);
  }

  private async putWhole(
    Key: string,
    Body: Buffer,
    Metadata: Record<string, string>,
    wish: AbortSignal,
  ): Promise<void> {
    const { name: Bucket } = this.bucket;
    await this.bucket.ask('Storing', Key, wish, (client, signal) =>
      client.send(new PutObjectCommand({ Bucket, Key, Body, Metadata }), signal),
    );
  }

  /** Whether the service has a file of this size that was stored as one of this checksum. */
  private async holds(Key: string, { bytes, sha256 }: FileToStore, wish: AbortSignal): Promise<boolean> {
    const { name: Bucket } = this.bucket;
    try {
      const { ContentLength, Metadata } = await this.bucket.ask('Looking at', Key, wish, (client, signal) =>
        client.send(new HeadObjectCommand({ Bucket, Key }), signal),
      );
      return ContentLength === bytes && Metadata?.sha256 === sha256;
    } catch (error) {
      if (isNotFound(error)) return false;
      throw error;
    }
  }

  async remove(folder: string, name: string, wish: AbortSignal): Promise<void> {
    const { name: Bucket } = this.bucket;
    const Key = this.key(folder, name);
    await this.bucket.ask('Removing', Key, wish, (client, signal) =>
      client.send(new DeleteObjectCommand({ Bucket, Key }), signal),
    );
  }

  async removeFolder(folder: string, signal: AbortSignal): Promise<void> {
    await abandonUploads(this.bucket, this.key(folder, ''), signal);
  }

  async close(): Promise<void> {
    this.bucket.close();
  }

  private key(folder: string, name: string): string {
    return `${this.prefix}${folder}/${name}`;
  }
}

function notWhole(what: string): DamageError {
  return new DamageError({
    doing: `Storing ${what}`,
    cause: 'the service shows another size for it than was sent',
    remedy: 'Remove the crate from the store and store it again',
  });
}
