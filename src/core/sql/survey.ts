import { SeenHosts } from '../address/seen.js';
import type { ByteString } from '../bytes.js';
import { readCreateTable } from './create-table.js';
import { type CellLiteral, DumpScanner, type DumpVisitor, type InsertHead } from './scanner.js';

/** A table as a dump holds it. */
export interface SurveyedTable {
  readonly name: string;
  rows: number;
  /** Bytes of its rows in the dump. */
  bytes: number;
}

/** Reads a dump to look at it: its tables, rows, and the addresses of every host in it. */
export class DumpSurvey implements DumpVisitor {
  readonly tables = new Map<string, SurveyedTable>();
  readonly hosts: SeenHosts;
  private readonly scanner = new DumpScanner(this);
  private readonly shapes = new Map<string, readonly string[]>();
  private table: SurveyedTable = { name: '', rows: 0, bytes: 0 };
  private columns: readonly string[] | undefined;

  /** @param landmark see `SeenHosts` */
  constructor(landmark: RegExp | undefined) {
    this.hosts = new SeenHosts(landmark);
  }

  /** @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer): void {
    this.scanner.push(chunk);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  window(s: ByteString): void {
    this.hosts.window(s);
  }

  insert(head: InsertHead): undefined {
    this.table = this.tableOf(head.table);
    this.columns = head.columns ?? this.shapes.get(head.table);
  }

  row(): void {
    this.table.rows++;
  }

  rowBytes(_s: ByteString, start: number, end: number): void {
    this.table.bytes += end - start;
  }

  literal({ start, end, column }: CellLiteral): undefined {
    this.hosts.look(start, end, `${this.table.name}.${this.columns?.[column] ?? `column ${column + 1}`}`);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (!shape) return;
    this.shapes.set(shape.name, shape.columns);
    this.tableOf(shape.name);
  }

  private tableOf(name: string): SurveyedTable {
    let table = this.tables.get(name);
    if (!table) {
      table = { name, rows: 0, bytes: 0 };
      this.tables.set(name, table);
    }
    return table;
  }
}

/** The table prefixes under which all of a family's core tables stand in a dump: one for each site in it. */
export function prefixesIn(tables: Iterable<string>, coreTables: readonly string[]): string[] {
  const names = new Set(tables);
  const [first, ...others] = coreTables;
  if (first === undefined) return [];
  return [...names]
    .filter(name => name.endsWith(first))
    .map(name => name.slice(0, -first.length))
    .filter(prefix => others.every(other => names.has(prefix + other)));
}
