import { createHash } from 'node:crypto';
import { copyFile, cp, mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { RowPrints } from '../../../core/database/content/row-prints.js';
import { whileDoing } from '../../../ends/system-errors.js';
import { writeWhole } from '../../../ends/whole-file.js';
import type { Move } from '../../move/open.js';

/** A table as a delivery left it. */
export interface DeliveredTable {
  readonly table: string;
  readonly rows: number;
  /** Of its content (see `ContentDigest`). */
  readonly digest: string;
  /** What the server computes of it; undefined where it computes nothing. */
  readonly checksum: string | undefined;
  /** The columns of its key; none where it has no key. */
  readonly key: readonly string[];
  /** How the dump made it (see `DumpShapes`). */
  readonly shape: string | undefined;
}

/** What a delivery left in a database, to see later what the new site has written since. */
export interface DeliveredState {
  /** As it is shown. */
  readonly database: string;
  /** SHA-256 of the dump that was loaded. */
  readonly dump: string;
  /** ISO 8601, UTC. */
  readonly at: string;
  /** The character set and time zone in which it was read. */
  readonly speaks: { readonly charset: string | undefined; readonly timeZone: string | undefined };
  readonly tables: readonly DeliveredTable[];
  /** What the dump made besides tables (see `DumpShapes`). */
  readonly programs: string;
}

/** A state with the fingerprints of its rows, in a folder of the move folder. */
export class StateFolder {
  private readonly folder: string;

  constructor(move: Move, name: 'staged' | 'delivered' | `keepsake/${number}/delivered`) {
    this.folder = move.folder.at(name.startsWith('keepsake') ? name : join('state', name));
  }

  async read(): Promise<DeliveredState | undefined> {
    try {
      return JSON.parse(await readFile(join(this.folder, 'tables.json'), 'utf8')) as DeliveredState;
    } catch {
      return undefined;
    }
  }

  /** The fingerprints of a table's rows; undefined where they are not there. */
  async prints(table: string): Promise<RowPrints | undefined> {
    try {
      return RowPrints.of(await readFile(this.rowsFile(table)));
    } catch {
      return undefined;
    }
  }

  /** Begins a state. */
  async begin(): Promise<void> {
    await whileDoing(`Making ${this.folder}`, async () => {
      await rm(this.folder, { recursive: true, force: true });
      await mkdir(this.folder, { recursive: true, mode: 0o700 });
    });
  }

  /** Writes the fingerprints of a table's rows. */
  async writePrints(table: string, prints: RowPrints): Promise<void> {
    const file = this.rowsFile(table);
    await whileDoing(`Writing ${file}`, () => writeFile(file, prints.bytes(), { mode: 0o600 }));
  }

  /** Writes the list, with which the state is whole. */
  async finish(state: DeliveredState): Promise<void> {
    await whileDoing(`Writing ${this.folder}`, () =>
      writeWhole(join(this.folder, 'tables.json'), JSON.stringify(state, undefined, 1), 0o600),
    );
  }

  /** Takes over the fingerprints of a table of another state, if it has any. */
  async takePrints(table: string, other: StateFolder): Promise<void> {
    await copyFile(other.rowsFile(table), this.rowsFile(table)).catch(() => {
      // Without them every row of the table counts as written, should the table change.
    });
  }

  /** Becomes another state, which goes. */
  async replace(other: StateFolder): Promise<void> {
    await whileDoing(`Writing ${other.folder}`, async () => {
      await rm(other.folder, { recursive: true, force: true });
      await rename(this.folder, other.folder);
    });
  }

  async copyTo(other: StateFolder): Promise<void> {
    await whileDoing(`Writing ${other.folder}`, () =>
      cp(this.folder, other.folder, { recursive: true, force: true }),
    );
  }

  async remove(): Promise<void> {
    await rm(this.folder, { recursive: true, force: true });
  }

  private rowsFile(table: string): string {
    const name = createHash('sha256').update(table).digest('hex').slice(0, 24);
    return join(this.folder, `${name}.rows`);
  }
}
