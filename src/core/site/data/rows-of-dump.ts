import { type ByteString, bytesOf, type Stretch } from '../../bytes.js';
import type { Workbench } from '../../kernels/workbench.js';
import { type Cell, RowCells } from '../../sql/cells.js';
import { readCreateTable } from '../../sql/create-table.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from '../../sql/scanner.js';
import type { FigureRow, FigureTables } from './site-figures.js';

/** Reads the rows of some tables. */
export interface RowReader {
  /** Without prefix, each with the columns that are read. */
  readonly tables: FigureTables;
  /** @param table without prefix */
  row(table: string, row: FigureRow): void;
}

/** Gives a reader its rows, as a dump has them. */
export class SiteRows implements DumpVisitor {
  private readonly scanner: DumpScanner;
  private readonly reader: RowReader;
  private readonly prefix: string;
  private readonly shapes = new Map<string, readonly string[]>();
  private cells: RowCells | undefined;

  /** @param prefix of the site's tables */
  constructor(bench: Workbench, reader: RowReader, prefix: string) {
    this.scanner = new DumpScanner(bench, this);
    this.reader = reader;
    this.prefix = prefix;
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  insert({ table, columns }: InsertHead): undefined {
    const name = table.startsWith(this.prefix) ? table.slice(this.prefix.length) : '';
    const wanted = this.reader.tables[name];
    const shape = columns ?? this.shapes.get(table);
    this.cells = wanted && shape && new RowCells(cells => this.reader.row(name, rowOf(cells, shape, wanted)));
  }

  rowBytes({ s }: Stretch, start: number, end: number): void {
    this.cells?.push(s.slice(start, end), this.scanner.dialect);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (shape) this.shapes.set(shape.name, shape.columns);
  }
}

function rowOf(cells: readonly Cell[], shape: readonly string[], wanted: readonly string[]): FigureRow {
  const row: Record<string, ByteString | null> = {};
  for (const name of wanted) {
    const cell = cells[shape.indexOf(name)];
    row[name] = cell ? bytesOf(cell) : null;
  }
  return row;
}
