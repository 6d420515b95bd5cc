import type { ByteString } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { readCreateTable } from './create-table.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from './scanner.js';

/** How many rows of a table a dump holds. */
export interface TableRows {
  readonly table: string;
  rows: number;
}

/** Counts the rows of every table of a dump, and passes on the dump without the rows of tables not wanted. */
export class RowCount implements DumpVisitor {
  readonly tables = new Map<string, TableRows>();
  readonly wanted: (table: string) => boolean;
  private readonly scanner: DumpScanner;
  private current: TableRows = { table: '', rows: 0 };

  constructor(bench: Workbench, wanted: (table: string) => boolean, emit?: (chunk: Buffer) => void) {
    this.wanted = wanted;
    this.scanner = new DumpScanner(bench, this, emit);
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  insert({ table }: InsertHead): undefined {
    if (table !== this.current.table) this.current = rowsOf(this.tables, table);
  }

  rowsEnded(count: number): void {
    this.current.rows += count;
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (shape) rowsOf(this.tables, shape.name);
  }
}

/** The count of a table, made at first use. */
export function rowsOf(tables: Map<string, TableRows>, table: string): TableRows {
  let rows = tables.get(table);
  if (!rows) {
    rows = { table, rows: 0 };
    tables.set(table, rows);
  }
  return rows;
}
