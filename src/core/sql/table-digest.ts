import { createHash, type Hash } from 'node:crypto';
import type { ByteString, Stretch } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { readCreateTable } from './create-table.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from './scanner.js';

/** What one table of a dump holds. */
export interface TableContent {
  readonly table: string;
  readonly rows: number;
  /** SHA-256 of its rows as they are in the dump. */
  readonly digest: string;
}

/** Takes the digest of every table's rows, to compare two dumps that the same program wrote. */
export class TableDigests implements DumpVisitor {
  private readonly tables = new Map<string, { rows: number; hash: Hash }>();
  private readonly scanner: DumpScanner;

  constructor(bench: Workbench) {
    this.scanner = new DumpScanner(bench, this);
  }

  private current: { rows: number; hash: Hash } = { rows: 0, hash: createHash('sha256') };

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  insert({ table }: InsertHead): undefined {
    this.current = this.tableOf(table);
  }

  rowsEnded(count: number): void {
    this.current.rows += count;
  }

  rowBytes({ bytes }: Stretch, start: number, end: number): void {
    this.current.hash.update(bytes.subarray(start, end));
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (shape) this.tableOf(shape.name);
  }

  /** Every table in the order of the dump. Call it once, at the end. */
  contents(): TableContent[] {
    return [...this.tables].map(([table, { rows, hash }]) => ({ table, rows, digest: hash.digest('hex') }));
  }

  private tableOf(table: string): { rows: number; hash: Hash } {
    let content = this.tables.get(table);
    if (!content) {
      content = { rows: 0, hash: createHash('sha256') };
      this.tables.set(table, content);
    }
    return content;
  }
}
