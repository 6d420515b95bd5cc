import { appendFile } from 'node:fs/promises';
import { join } from 'node:path';
import { StandinS3Server } from '../../standins/s3/s3-server.js';
import type { StepRun } from '../move/step.js';
import { listCrates, storedCrate, type VerifiedStored, verifyStored } from '../store/crates.js';
import { type StoreResult, storeCrate } from '../store/store-crate.js';
import { storeOf, userOf } from '../store/stores.js';

const bucket = 'saltmarsh-crates';
const account = { accessKeyId: 'SALTMARSH', secretAccessKey: 'neap tide / +3' };
const passphrase = 'feather & square';

/** What the demo's store was seen to do. */
export interface DemoStored {
  readonly stored: StoreResult;
  readonly crates: number;
  readonly verified: VerifiedStored;
}

/** A simulated service in which the demo's crate is stored. */
export class DemoStore {
  private readonly server: StandinS3Server;

  /** @param folder of the demo */
  constructor(folder: string) {
    this.server = new StandinS3Server(bucket, account, join(folder, 'store'));
  }

  /** Adds the store to a sheet, and what opens it to the secrets beside it. @param folder of the move */
  async addTo(folder: string, endpoint: string): Promise<void> {
    const store = `{ place: "s3://${bucket}/moves", endpoint: "${endpoint}", region: here }`;
    await appendFile(
      join(folder, 'move.yaml'),
      `\n# Where the crate is stored offsite, encrypted.\ncrate: { passphrase: "\${CRATE_PASSPHRASE}", store: ${store} }\n`,
    );
    await appendFile(
      join(folder, '.env'),
      `CRATE_PASSPHRASE='${passphrase}'\nAWS_ACCESS_KEY_ID=${account.accessKeyId}\nAWS_SECRET_ACCESS_KEY='${account.secretAccessKey}'\n`,
    );
  }

  listen(): Promise<string> {
    return this.server.listen();
  }

  close(): Promise<void> {
    return this.server.close();
  }
}

/** Stores the crate of a move, looks what is there, and reads all of it again. */
export async function storeAndVerify(run: StepRun): Promise<DemoStored> {
  const store = await storeOf(userOf(run.move));
  try {
    const stored = await storeCrate(run, store, passphrase);
    const crates = await listCrates(store, run.signal);
    const found = await storedCrate(store, { name: stored.name, move: undefined }, run.signal);
    const verified = await verifyStored({ ...run, store }, found, async () => passphrase);
    return { stored, crates: crates.length, verified };
  } finally {
    await store.close();
  }
}
