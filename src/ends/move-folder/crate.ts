import { mkdir, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import { DamageError, UsageError } from '../../core/errors.js';
import type { CheckedEntry } from '../../core/files/entries.js';
import { checkManifest } from '../../core/files/manifest.js';
import { LocalFiles } from '../files/local.js';
import { whileDoing } from '../system-errors.js';
import { writeWhole } from '../whole-file.js';
import { type CratePart, checksumOf } from './crate-part.js';
import { readEntryList, writeEntryList } from './entry-list.js';

/** The name of the dump as taken, within the crate. */
export const takenDump = 'database.sql.gz';

/** `crate.json`: what the crate holds and what it was taken from. */
export interface CrateManifest {
  readonly format: 'able-porter crate';
  readonly version: 1;
  readonly taken: string;
  readonly by: string;
  /** What the person who took it wrote for whoever opens it. */
  readonly note?: string;
  readonly from: {
    readonly address: string;
    readonly family: string;
    readonly prefix?: string;
    readonly charset?: string;
    /** The character set in which its dump is written, where it was taken from a server. */
    readonly spoken?: string;
    /** The path of its configuration; `../` for one folder above the site. */
    readonly configuration?: string;
  };
  readonly counts: {
    files: number;
    folders: number;
    links: number;
    bytes: number;
    tables: number;
    rows: number;
  };
  /** By name within the crate. */
  readonly parts: Readonly<Record<string, CratePart>>;
  /** Rows by table, under the old names, in the order of the dump. */
  readonly tables: readonly { readonly table: string; readonly rows: number }[];
}

/** What was taken from the old site, in a folder that ordinary tools can open (design, section 5). */
export class Crate {
  readonly folder: string;

  constructor(folder: string) {
    this.folder = folder;
  }

  get files(): LocalFiles {
    return new LocalFiles(join(this.folder, 'files'), { ownerOnly: true });
  }

  /** Files of the configuration that was one folder above the site. */
  get above(): LocalFiles {
    return new LocalFiles(join(this.folder, 'above'), { ownerOnly: true });
  }

  /** Files whose addresses were rewritten, in the same places as under `files`. */
  get movedFiles(): LocalFiles {
    return new LocalFiles(join(this.folder, 'files.moved'), { ownerOnly: true });
  }

  /** A path inside the crate. */
  at(name: string): string {
    return join(this.folder, name);
  }

  async makeFolder(): Promise<void> {
    await whileDoing(`Making the crate ${this.folder}`, () =>
      mkdir(this.folder, { recursive: true, mode: 0o700 }),
    );
  }

  /** @throws UsageError when there is no crate, DamageError when its manifest is not one of ours */
  async manifest(): Promise<CrateManifest> {
    let text: string;
    try {
      text = await readFile(this.at('crate.json'), 'utf8');
    } catch (cause) {
      const details = {
        doing: `Opening the crate ${this.folder}`,
        cause: 'there is none',
        remedy: 'Run "able-porter pack" first',
      };
      throw new UsageError(details, { cause });
    }
    const doing = `Opening the crate ${this.folder}`;
    let read: unknown;
    try {
      read = JSON.parse(text);
    } catch (cause) {
      const details = {
        doing,
        cause: 'its crate.json is no JSON',
        remedy: 'Pack again: the crate was changed',
      };
      throw new DamageError(details, { cause });
    }
    checkManifest(read, doing);
    return read as CrateManifest;
  }

  /** What gives this crate from another: the SHA-256 of its manifest. */
  async identity(): Promise<string | undefined> {
    return this.partIdentity('crate.json');
  }

  /** The SHA-256 of a part as it is there, or undefined where it is not. */
  async partIdentity(name: string): Promise<string | undefined> {
    return checksumOf(this.at(name)).then(
      ({ sha256 }) => sha256,
      () => undefined,
    );
  }

  async writeManifest(manifest: CrateManifest): Promise<void> {
    await whileDoing(`Writing ${this.at('crate.json')}`, () =>
      writeWhole(this.at('crate.json'), `${JSON.stringify(manifest, undefined, 2)}\n`),
    );
  }

  /** Writes a list of files whole or not at all. @param entries in the order of their paths */
  writeEntries(
    name: string,
    entries: AsyncIterable<CheckedEntry> | Iterable<CheckedEntry>,
  ): Promise<CratePart> {
    return writeEntryList(this.at(name), entries);
  }

  /** The files of the crate, as `files.ndjson` (or another list) shows them; none where the list is not there. */
  entries(name = 'files.ndjson'): AsyncIterable<CheckedEntry> {
    return readEntryList(this.at(name));
  }

  /** @throws DamageError when a part is not what the manifest says */
  async verifyPart(name: string, part: CratePart): Promise<void> {
    const found = await whileDoing(`Reading ${this.at(name)}`, () => checksumOf(this.at(name)));
    if (found.bytes === part.bytes && found.sha256 === part.sha256) return;
    throw new DamageError({
      doing: `Checking ${this.at(name)}`,
      cause: `its checksum is not what the crate says (${found.bytes} bytes, ${part.bytes} expected)`,
      remedy: 'Pack again; what was changed by hand cannot be trusted to be whole',
    });
  }
}

/** The names within the crate of what rewriting makes. */
export const movedDump = 'database.moved.sql.gz';

export const movedFiles = 'files.moved.ndjson';
