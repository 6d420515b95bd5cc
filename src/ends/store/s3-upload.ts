import { open, readFile, rm } from 'node:fs/promises';
import {
  AbortMultipartUploadCommand,
  type CompletedPart,
  CompleteMultipartUploadCommand,
  CreateMultipartUploadCommand,
  ListMultipartUploadsCommand,
  ListPartsCommand,
  UploadPartCommand,
} from '@aws-sdk/client-s3';
import pMap from 'p-map';
import { DamageError, isNotFound } from '../../core/errors.js';
import { writeWhole } from '../whole-file.js';
import type { S3Bucket } from './s3-bucket.js';
import type { FileToStore, StoreOptions } from './store.js';

/** A file is stored in pieces of so many bytes, so many at once. Services take 5 MiB or more, and 10,000 pieces. */
export const pieceBytes = 8 * 1024 * 1024;
const atOnce = 4;

/** A piece that the service has. */
interface Piece {
  readonly bytes: number;
  readonly tag: string | undefined;
}

/** The storing of one file in pieces: what an interrupted run has stored of it is not sent again. */
export class S3Upload {
  private readonly bucket: S3Bucket;
  private readonly key: string;
  private readonly file: FileToStore;
  private readonly options: StoreOptions;

  constructor(bucket: S3Bucket, key: string, file: FileToStore, options: StoreOptions) {
    this.bucket = bucket;
    this.key = key;
    this.file = file;
    this.options = options;
  }

  /** @throws DamageError where the service puts it together to something of another size */
  async run(): Promise<void> {
    const { file, options, key: Key } = this;
    const { name: Bucket } = this.bucket;
    const { id: UploadId, there } = (await this.continued()) ?? (await this.begun());
    let stored = 0;
    const numbers = Array.from({ length: Math.ceil(file.bytes / pieceBytes) }, (_, i) => i + 1);
    const Parts = await pMap(
      numbers,
      async (PartNumber): Promise<CompletedPart> => {
        const bytes = Math.min(pieceBytes, file.bytes - (PartNumber - 1) * pieceBytes);
        const known = there.get(PartNumber);
        const ETag = known?.bytes === bytes ? known.tag : await this.send(UploadId, PartNumber, bytes);
        stored += bytes;
        options.progress(stored);
        return { PartNumber, ETag };
      },
      { concurrency: atOnce, signal: options.signal },
    );
    await this.bucket.ask('Storing', Key, options.signal, (client, signal) =>
      client.send(
        new CompleteMultipartUploadCommand({ Bucket, Key, UploadId, MultipartUpload: { Parts } }),
        signal,
      ),
    );
    await rm(options.note, { force: true });
  }

  private async send(UploadId: string, PartNumber: number, bytes: number): Promise<string | undefined> {
    const { name: Bucket } = this.bucket;
    const Body = await this.piece(PartNumber, bytes);
    const { ETag } = await this.bucket.ask('Storing', this.key, this.options.signal, (client, signal) =>
      client.send(new UploadPartCommand({ Bucket, Key: this.key, UploadId, PartNumber, Body }), signal),
    );
    return ETag;
  }

  private async piece(number: number, bytes: number): Promise<Buffer> {
    const { file } = this.file;
    const handle = await open(file, 'r');
    try {
      const piece = Buffer.alloc(bytes);
      const { bytesRead } = await handle.read(piece, 0, bytes, (number - 1) * pieceBytes);
      if (bytesRead === bytes) return piece;
    } finally {
      await handle.close();
    }
    throw new DamageError({
      doing: `Reading ${file}`,
      cause: 'it is shorter than when it was written',
      remedy: 'Run the command again',
    });
  }

  /** The upload that an interrupted run has begun, where the service still knows it. */
  private async continued(): Promise<{ id: string; there: ReadonlyMap<number, Piece> } | undefined> {
    const { name: Bucket } = this.bucket;
    const [id, of] = ((await readFile(this.options.note, 'utf8').catch(() => '')) || '').split('\n');
    if (!id || of !== this.file.sha256) return undefined;
    const there = new Map<number, Piece>();
    let PartNumberMarker: string | undefined;
    do {
      const marker = PartNumberMarker;
      const page = await this.bucket
        .ask('Looking at', this.key, this.options.signal, (client, signal) =>
          client.send(
            new ListPartsCommand({
              Bucket,
              Key: this.key,
              UploadId: id,
              PartNumberMarker: marker,
            }),
            signal,
          ),
        )
        .catch(error => {
          if (isNotFound(error)) return undefined;
          throw error;
        });
      if (!page) return undefined;
      for (const { PartNumber, Size, ETag } of page.Parts ?? [])
        if (PartNumber !== undefined) there.set(PartNumber, { bytes: Size ?? 0, tag: ETag });
      PartNumberMarker = page.IsTruncated ? page.NextPartNumberMarker : undefined;
    } while (PartNumberMarker !== undefined);
    return { id, there };
  }

  private async begun(): Promise<{ id: string; there: ReadonlyMap<number, Piece> }> {
    const { name: Bucket } = this.bucket;
    const { signal: wish, note } = this.options;
    await abandonUploads(this.bucket, this.key, wish);
    const { UploadId } = await this.bucket.ask('Storing', this.key, wish, (client, signal) =>
      client.send(
        new CreateMultipartUploadCommand({
          Bucket,
          Key: this.key,
          Metadata: { sha256: this.file.sha256 },
        }),
        signal,
      ),
    );
    await writeWhole(note, `${UploadId}\n${this.file.sha256}`);
    return { id: UploadId!, there: new Map() };
  }
}

/** Pieces of uploads that nobody will continue take up room that is paid for. @param prefix of the keys */
export async function abandonUploads(bucket: S3Bucket, prefix: string, wish: AbortSignal): Promise<void> {
  const { name: Bucket } = bucket;
  const { Uploads } = await bucket.ask('Looking at', prefix, wish, (client, signal) =>
    client.send(new ListMultipartUploadsCommand({ Bucket, Prefix: prefix }), signal),
  );
  for (const { Key, UploadId } of Uploads ?? [])
    await bucket.ask('Removing', Key!, wish, (client, signal) =>
      client.send(new AbortMultipartUploadCommand({ Bucket, Key: Key!, UploadId: UploadId! }), signal),
    );
}
