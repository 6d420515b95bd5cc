import { readFile, stat } from 'node:fs/promises';
import { gunzipSync } from 'node:zlib';
import { textOf } from '../core/bytes.js';
import { Workbench } from '../core/kernels/workbench.js';
import { type Decoded, decodeSerialized } from '../core/serialized/decode.js';
import { DumpRows, type Row } from '../core/sql/rows.js';

/** What a database server checks before it lets a site in. */
export interface Credentials {
  readonly name: string;
  readonly user: string;
  readonly password: string;
}

/** A database that simulates a real one: a dump loaded into memory, behind credentials. */
export class StandinDatabase {
  /** May be changed to another, as by somebody at a panel. */
  credentials: Credentials;
  /** A dump that is loaded whenever it is there anew, as somebody does at a panel. */
  follows: string | undefined;
  private loadedAt = 0;
  private tables = new Map<string, Row[]>();

  constructor(credentials: Credentials) {
    this.credentials = credentials;
  }

  /** Loads a dump file, plain or gzip, in place of what was there. */
  async load(file: string): Promise<void> {
    const packed = await readFile(file);
    const reader = new DumpRows(new Workbench());
    reader.push(packed[0] === 0x1f ? gunzipSync(packed) : packed);
    reader.finish();
    this.tables = reader.tables();
  }

  /** Loads the dump that it follows, where that is another than before. */
  async refresh(): Promise<void> {
    const { follows } = this;
    const at =
      follows === undefined
        ? 0
        : await stat(follows).then(
            ({ mtimeMs }) => mtimeMs,
            () => 0,
          );
    if (follows === undefined || at === this.loadedAt || at === 0) return;
    this.loadedAt = at;
    await this.load(follows);
  }

  accepts({ name, user, password }: Credentials): boolean {
    const { credentials } = this;
    return name === credentials.name && user === credentials.user && password === credentials.password;
  }

  has(table: string): boolean {
    return this.tables.has(table);
  }

  names(): string[] {
    return [...this.tables.keys()];
  }

  rows(table: string): Record<string, string>[] {
    return (this.tables.get(table) ?? []).map(row =>
      Object.fromEntries(
        Object.entries(row).map(([column, value]) => [column, value === null ? '' : textOf(value)]),
      ),
    );
  }

  /** A serialized cell as plain data; undefined when it is damaged, as the site itself would find it. */
  static decode(text: string): Decoded | undefined {
    return decodeSerialized(Buffer.from(text, 'utf8').toString('latin1'));
  }
}
