import { createWriteStream } from 'node:fs';
import { mkdir, readFile, rename, rm, stat } from 'node:fs/promises';
import { pipeline } from 'node:stream/promises';
import { DamageError } from '../../core/errors.js';
import {
  type StoredCrate,
  type StoredPart,
  storedIndex,
  storedKey,
  storedName,
  storedPart,
  writeStoredKey,
} from '../../core/store/stored-crate.js';
import { parseSize } from '../../core/text/sizes.js';
import { GrowingTar } from '../../ends/archive/growing-tar.js';
import {
  newSealingKey,
  type SealingKey,
  sealed,
  sealedFor,
  sealingKeyOf,
  unsealed,
} from '../../ends/archive/seal.js';
import { chunksOf, wholeOf } from '../../ends/content.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import { checksumOf } from '../../ends/move-folder/crate-part.js';
import type { Store } from '../../ends/store/store.js';
import { whileDoing } from '../../ends/system-errors.js';
import { writeWhole } from '../../ends/whole-file.js';
import { version } from '../../version.js';
import type { Move } from '../move/open.js';
import type { StepRun } from '../move/step.js';
import { indexOf, removeStored } from './crates.js';

/** A crate that is at a store. */
export interface StoreResult {
  readonly place: string;
  readonly name: string;
  readonly parts: number;
  /** Of the parts as they are stored. */
  readonly bytes: number;
  /** Whether an earlier run has stored all of it. */
  readonly wasThere: boolean;
}

/** Bytes of the tar that make a part, where nothing is said. */
const usualPartBytes = 64 * 1024 * 1024;

/** What the disk knows of the storing of a crate, until all of it is stored. */
interface State {
  /** Of which crate, where to, and in which parts. */
  readonly of: string;
  readonly parts: (StoredPart & { readonly stored: boolean })[];
}

/** Whether an interrupted run has begun to store the crate that is in the move folder. */
export async function isBeingStored({ folder, crate }: Move): Promise<boolean> {
  const [state, identity] = await Promise.all([stateIn(folder), crate.identity()]);
  return state !== undefined && identity !== undefined && state.of.startsWith(`${identity} `);
}

async function stateIn(folder: Move['folder']): Promise<State | undefined> {
  const text = await folder.read('store/state.json');
  return text === undefined ? undefined : (JSON.parse(text) as State);
}

/**
 * Stores the crate, sealed with a passphrase. An interrupted run is resumed by the next: parts that are stored are neither
 * sealed nor sent again, and a part that is sealed is not sealed again.
 * @throws UsageError where the passphrase is not that of the interrupted run
 */
export async function storeCrate(run: StepRun, store: Store, passphrase: string): Promise<StoreResult> {
  const size = run.move.sheet.crate?.store?.['part-size'];
  const partBytes = size === undefined ? usualPartBytes : parseSize(String(size), 'crate.store.part-size');
  const manifest = await run.move.crate.manifest();
  const crate = (await run.move.crate.identity())!;
  const name = storedName(run.move.sheet.name, manifest.taken);
  // One that cannot be read is stored anew.
  const known = await indexOf(store, name, run.signal).catch(error => {
    if (error instanceof DamageError) return undefined;
    throw error;
  });
  if (known?.crate === crate) {
    await rm(run.move.folder.at('store'), { recursive: true, force: true });
    return { place: store.text, name, parts: known.parts, bytes: known.bytes, wasThere: true };
  }
  const tar = new GrowingTar(run.move.crate);
  await tar.finish(manifest);
  const storing = await Storing.open(run, store, { name, crate, partBytes, passphrase });
  const parts = await storing.storeParts(tar);
  await storing.storeKey(crate, passphrase);
  const bytes = parts.reduce((sum, part) => sum + part.bytes, 0);
  await storing.finish(indexFor(manifest, { crate, parts: parts.length, bytes }));
  return { place: store.text, name, parts: parts.length, bytes, wasThere: false };
}

function indexFor(
  { taken, note, from, counts }: CrateManifest,
  stored: Pick<StoredCrate, 'crate' | 'parts' | 'bytes'>,
): StoredCrate {
  const { files, bytes, tables, rows } = counts;
  return {
    format: 'able-porter stored crate',
    version: 1,
    taken,
    stored: new Date().toISOString(),
    by: `able-porter ${version}`,
    ...(note === undefined ? {} : { note }),
    from: { address: from.address, family: from.family },
    counts: { files, bytes, tables, rows },
    ...stored,
  };
}

interface Wish {
  readonly name: string;
  readonly crate: string;
  readonly partBytes: number;
  readonly passphrase: string;
}

/** The storing of one crate, with what is on the disk for it. */
class Storing {
  private readonly run: StepRun;
  private readonly store: Store;
  private readonly wish: Wish;
  private readonly key: SealingKey;
  private readonly state: State;

  private constructor(run: StepRun, store: Store, wish: Wish, key: SealingKey, state: State) {
    this.run = run;
    this.store = store;
    this.wish = wish;
    this.key = key;
    this.state = state;
  }

  /** Continues what an interrupted run began with this crate and store; anything else begins anew. */
  static async open(run: StepRun, store: Store, wish: Wish): Promise<Storing> {
    const of = [wish.crate, wish.partBytes, store.text, wish.name].join(' ');
    const { folder } = run.move;
    const state = await stateIn(folder);
    if (state?.of === of) return new Storing(run, store, wish, await readKey(run, wish.passphrase), state);
    await rm(folder.at('store'), { recursive: true, force: true });
    await whileDoing(`Making ${folder.at('store')}`, () => mkdir(folder.at('store'), { mode: 0o700 }));
    // What is there of this name is of a run that nothing is known of any more.
    await removeStored(store, wish.name, run.signal);
    const key = await newSealingKey();
    await folder.write(
      `store/${storedKey}`,
      await wholeOf(sealed(chunksOf(Buffer.from(key.identity)), wish.passphrase)),
    );
    const storing = new Storing(run, store, wish, key, { of, parts: [] });
    await storing.noteState();
    return storing;
  }

  /** Seals one part while the one before it is sent. */
  async storeParts(tar: GrowingTar): Promise<readonly StoredPart[]> {
    const { partBytes } = this.wish;
    const count = Math.ceil(tar.bytes / partBytes);
    let sending: Promise<void> = Promise.resolve();
    for (let i = 0; i < count; i++) {
      this.run.signal.throwIfAborted();
      if (this.state.parts[i]?.stored) continue;
      const [from, to] = [i * partBytes, Math.min(tar.bytes, (i + 1) * partBytes)];
      try {
        await this.seal(i, tar.range(from, to));
      } finally {
        await sending;
      }
      sending = this.send(i, from, tar.bytes);
      sending.catch(() => {});
    }
    await sending;
    return this.state.parts.map(({ name, bytes, sha256 }) => ({ name, bytes, sha256 }));
  }

  private async seal(i: number, content: AsyncIterable<Buffer>): Promise<void> {
    const file = this.fileOf(i);
    const { parts } = this.state;
    const known = parts[i];
    if (known && (await stat(file).catch(() => undefined))?.size === known.bytes) return;
    const partial = `${file}.partial`;
    await whileDoing(`Writing ${file}`, async () => {
      await pipeline(
        sealedFor(content, this.key.recipient),
        createWriteStream(partial, { mode: 0o600, flush: true }),
        { signal: this.run.signal },
      );
      await rename(partial, file);
    });
    parts[i] = { name: storedPart(i + 1), ...(await checksumOf(file)), stored: false };
    await this.noteState();
  }

  private async send(i: number, before: number, all: number): Promise<void> {
    const { run, store, wish, state } = this;
    const { name, bytes, sha256 } = state.parts[i]!;
    const file = this.fileOf(i);
    const note = `${file}.upload`;
    const progress = (stored: number) =>
      run.events({
        type: 'progress',
        what: `to ${store.text}`,
        done: Math.min(all, before + stored),
        of: all,
        unit: 'bytes',
      });
    await store.put(wish.name, name, { file, bytes, sha256 }, { signal: run.signal, progress, note });
    state.parts[i] = { name, bytes, sha256, stored: true };
    await this.noteState();
    for (const one of [file, note]) await rm(one, { force: true });
  }

  /** The key with the checksums of the parts: the store itself cannot change them unseen. */
  async storeKey(crate: string, passphrase: string): Promise<void> {
    const text = writeStoredKey({ crate, parts: this.state.parts, identity: this.key.identity });
    const content = await wholeOf(sealed(chunksOf(Buffer.from(text)), passphrase));
    await this.store.write(this.wish.name, storedKey, content, this.run.signal);
  }

  /** From here on the crate is one that others see. */
  async finish(index: StoredCrate): Promise<void> {
    const { run, store, wish } = this;
    const content = Buffer.from(`${JSON.stringify(index, undefined, 2)}\n`);
    // Before it is there: `tidy` tells where crates are.
    const deed = { kind: 'crate stored', place: store.text, name: wish.name } as const;
    await run.move.folder.note({ at: new Date().toISOString(), step: 'pack', event: 'did', deed });
    await store.write(wish.name, storedIndex, content, run.signal);
    await rm(run.move.folder.at('store'), { recursive: true, force: true });
  }

  private fileOf(i: number): string {
    return this.run.move.folder.at('store', storedPart(i + 1));
  }

  private async noteState(): Promise<void> {
    await writeWhole(this.run.move.folder.at('store/state.json'), JSON.stringify(this.state));
  }
}

async function readKey(run: StepRun, passphrase: string): Promise<SealingKey> {
  const file = run.move.folder.at('store', storedKey);
  const content = await whileDoing(`Reading ${file}`, () => readFile(file));
  const plain = await wholeOf(
    unsealed(chunksOf(content), async () => passphrase, 'what an interrupted run has begun'),
  );
  return sealingKeyOf(plain.toString());
}
