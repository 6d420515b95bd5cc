import { SeenHosts } from '../../address/seen.js';
import { SeenFolders } from '../../address/server-paths.js';
import type { ByteString, Stretch } from '../../bytes.js';
import type { Workbench } from '../../kernels/workbench.js';
import { readCreateTable } from '../../sql/create-table.js';
import { type CellLiteral, DumpScanner, type DumpVisitor, type InsertHead } from '../../sql/scanner.js';

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
  readonly folders: SeenFolders;
  /** Character sets and collations that its tables name. */
  readonly collations = new Set<string>();
  readonly charsets = new Set<string>();
  /** The server that it was taken from, as its first lines say. */
  server: string | undefined;
  /** Bytes of its longest INSERT. */
  longestStatement = 0;
  private statementBytes = 0;
  private begun = false;
  private readonly scanner: DumpScanner;
  private readonly shapes = new Map<string, readonly string[]>();
  private table: SurveyedTable = { name: '', rows: 0, bytes: 0 };
  private columns: readonly string[] | undefined;

  /** @param landmark see `SeenHosts` */
  constructor(bench: Workbench, landmark: RegExp | undefined) {
    this.scanner = new DumpScanner(bench, this);
    this.hosts = new SeenHosts(landmark);
    this.folders = new SeenFolders(landmark);
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    if (!this.begun) {
      this.begun = true;
      this.server = /^-- Server version:?[ \t]+(\S+)/m.exec(chunk.toString('latin1', 0, 2000))?.[1];
    }
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  window({ s }: Stretch): void {
    this.hosts.window(s);
    this.folders.window(s);
  }

  insert(head: InsertHead): undefined {
    this.table = this.tableOf(head.table);
    this.statementBytes = 0;
    this.columns = head.columns ?? this.shapes.get(head.table);
  }

  rowsEnded(count: number): void {
    this.table.rows += count;
  }

  rowBytes(_stretch: Stretch, start: number, end: number): void {
    this.table.bytes += end - start;
    this.statementBytes += end - start;
    if (this.statementBytes > this.longestStatement) this.longestStatement = this.statementBytes;
  }

  literal({ start, end, column }: CellLiteral): undefined {
    const place = `${this.table.name}.${this.columns?.[column] ?? `column ${column + 1}`}`;
    this.hosts.look(start, end, place);
    this.folders.look(start, end, place);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const text = s.slice(start, end);
    const shape = readCreateTable(text);
    if (!shape) return;
    for (const [, name] of text.matchAll(/\bCOLLATE[ =]+(\w+)/gi)) this.collations.add(name!.toLowerCase());
    for (const [, name] of text.matchAll(/\b(?:CHARSET|CHARACTER SET)[ =]+(\w+)/gi))
      this.charsets.add(name!.toLowerCase());
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
