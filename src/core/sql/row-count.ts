import type { ByteString } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { readCreateTable } from './create-table.js';
import type { Allowed } from './judge/judge.js';
import { DumpScanner, type DumpVisitor, type InsertHead, type RefusedStatement } from './scanner.js';

/** How many rows of a table a dump holds. */
export interface TableRows {
  readonly table: string;
  rows: number;
}

/** So many statements that are left out are known. */
export const mostLeftOut = 10_000;

/** What is passed on of a table: all of it, how it is made, or nothing. */
export type TakenOfTable = 'all' | 'structure' | 'nothing';

/** Counts the rows of every table of a dump, and passes on of each what is wanted. */
export class RowCount implements DumpVisitor {
  readonly tables = new Map<string, TableRows>();
  /** Statements that do more than dumps do. */
  readonly leftOut: RefusedStatement[] = [];
  private readonly taken: (table: string) => TakenOfTable;
  private readonly scanner: DumpScanner;
  private current: TableRows = { table: '', rows: 0 };

  /** @param taken what is wanted of a table, by its name as bytes */
  constructor(bench: Workbench, taken: (table: string) => TakenOfTable, emit?: (chunk: Buffer) => void) {
    this.taken = taken;
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

  wanted(table: string): boolean {
    return this.taken(table) === 'all';
  }

  leavesOut(named: Allowed): boolean {
    return namesOthers(named, table => this.taken(table) === 'nothing');
  }

  refused(statement: RefusedStatement): void {
    if (this.leftOut.length < mostLeftOut) this.leftOut.push(statement);
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

/** Whether a statement names a table or view that is not wanted; a foreign key may lead to one. */
export function namesOthers({ about, uses }: Allowed, isUnwanted: (table: string) => boolean): boolean {
  return about.some(isUnwanted) || uses.some(isUnwanted);
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
