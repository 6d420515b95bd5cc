import { UsageError } from '../../core/errors.js';
import { isS3, readS3Place } from '../../core/store/s3-place.js';
import type { FilesAccounts } from '../files/place.js';
import type { SheetLogin } from '../ssh/login.js';
import { FilesStore } from './files-store.js';
import type { S3Wish } from './s3-bucket.js';
import type { Store } from './store.js';

/** How a store is reached, as the sheet says it. */
export interface StoreWish extends S3Wish {
  readonly login?: SheetLogin | undefined;
}

/**
 * Opens a store; nothing is connected yet.
 * @param place `s3://bucket/prefix`, a folder on this machine, or one that a protocol for files reaches
 */
export async function openStore(place: string, wish: StoreWish, accounts: FilesAccounts): Promise<Store> {
  if (!isS3(place)) return new FilesStore(accounts.place(place, wish.login));
  const bucket = readS3Place(place);
  if (!bucket) {
    throw new UsageError({
      doing: `Opening the store ${place}`,
      cause: 'this names no bucket',
      remedy: 'Write it as s3://bucket or s3://bucket/prefix',
    });
  }
  // It loads the client package.
  const { S3Store } = await import('./s3-store.js');
  return new S3Store(bucket, wish);
}
