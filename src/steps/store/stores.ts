import { basename, dirname } from 'node:path';
import { UsageError } from '../../core/errors.js';
import type { Sheet } from '../../core/sheet/schema.js';
import { isStoredName } from '../../core/store/stored-crate.js';
import type { FilesAccounts } from '../../ends/files/place.js';
import { readSecretsFile } from '../../ends/move-folder/secrets.js';
import { openStore } from '../../ends/store/open-store.js';
import type { S3Credentials } from '../../ends/store/s3-bucket.js';
import type { Store } from '../../ends/store/store.js';
import type { Move } from '../move/open.js';

/** What is needed to reach stores, with a move or without one. */
export interface StoreUser {
  readonly accounts: FilesAccounts;
  /** Of the sheet; undefined where there is none. */
  readonly crate: Sheet['crate'] | undefined;
  /** A file beside the sheet that may hold credentials. */
  readonly secrets: string;
}

/** A move as one who uses stores. */
export function userOf({ accounts, sheet, folder }: Move): StoreUser {
  return { accounts, crate: sheet.crate, secrets: folder.at('.env') };
}

/**
 * Opens a store.
 * @param place left out, it is the sheet's
 * @throws UsageError where neither names one
 */
export async function storeOf({ accounts, crate, secrets }: StoreUser, place?: string): Promise<Store> {
  const wish = crate?.store;
  const named = place ?? wish?.place;
  if (named === undefined) {
    throw new UsageError({
      doing: 'Opening the store',
      cause: 'none is named',
      remedy:
        'Write crate: { store: s3://bucket/prefix } (or sftp://…, or a folder) into the sheet, or give --store',
    });
  }
  const known = await readSecretsFile(secrets);
  const endpoint = wish?.endpoint ?? known.AWS_ENDPOINT_URL;
  const region = wish?.region ?? known.AWS_REGION;
  return openStore(named, { ...wish, endpoint, region, credentials: credentialsIn(known) }, accounts);
}

/** Those of `.env`. The client package finds those of the environment and of profiles. */
function credentialsIn(secrets: Readonly<Record<string, string>>): S3Credentials | undefined {
  const {
    AWS_ACCESS_KEY_ID: accessKeyId,
    AWS_SECRET_ACCESS_KEY: secretAccessKey,
    AWS_SESSION_TOKEN: sessionToken,
  } = secrets;
  if (!accessKeyId || !secretAccessKey) return undefined;
  return { accessKeyId, secretAccessKey, sessionToken };
}

/** A crate at a store as a person names it: the crate's own name, with or without the store's before it, or a store alone. */
export function placeOfCrate(text: string): {
  readonly place: string | undefined;
  readonly name: string | undefined;
} {
  const name = basename(text);
  if (!isStoredName(name)) return { place: text, name: undefined };
  return { place: text.includes('/') ? dirname(text) : undefined, name };
}
