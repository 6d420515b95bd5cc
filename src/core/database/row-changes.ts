import { type ByteString, bytesOf, type Stretch, textOf } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import type { DataEdit } from '../site/data/data-edits.js';
import { type RowChange, RowEdits } from '../site/data/row-edits.js';
import { type Cell, RowCells } from '../sql/cells.js';
import { type Column, introducerOf, writingOf } from '../sql/column.js';
import { readCreateTable } from '../sql/create-table.js';
import { type EncodedSql, identifier, joined, sql } from '../sql/encoded-sql.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from '../sql/scanner.js';
import { ContentDigest, kindOf } from './content/content-digest.js';
import type { RowsAsText } from './content/piece-prints.js';
import type { KeySet } from './content/row-prints.js';
import { InsertWriter } from './insert-writer.js';
import { valueSql } from './row-update.js';

/** A table of which some rows are to be changed. */
export interface ChangingTable {
  readonly table: string;
  readonly columns: readonly Column[];
  /** The names of the columns of its key. */
  readonly key: readonly string[];
  /** The rows that are new or another in the dump. */
  readonly keys: KeySet;
}

/** What of a table is written into a database that has it nearly as it is to be. */
export interface RowsToChange {
  readonly table: string;
  readonly columns: readonly Column[];
  readonly key: readonly string[];
  /** Keys of rows that are removed first, each as a tuple of literals, as bytes. */
  readonly tuples: EncodedSql[];
  /** INSERT statements, as bytes. */
  readonly inserts: Buffer[];
  rows: number;
  /** Digests of the rows that are put, to compare them when they are read back. */
  readonly digests: Set<string>;
}

/** Rows of a table that are put in the place of those that some conditions find. */
export interface RowsToPut {
  readonly table: string;
  readonly columns: readonly Column[];
  /** Conditions, none of which finds too many rows for one statement. */
  readonly where: readonly EncodedSql[];
  /** INSERT statements, as bytes, of which each may hold several. */
  readonly inserts: readonly Buffer[];
  /** How many rows are put, and digests of them, to compare them when they are read back; undefined where nobody knows them. */
  readonly proof: { readonly rows: number; readonly digests: ReadonlySet<string> } | undefined;
}

/** So many rows are asked for or removed with one statement. */
const together = 500;

/** The rows of a change as they are put. */
export function rowsToPut({ table, columns, key, tuples, inserts, rows, digests }: RowsToChange): RowsToPut {
  const where: EncodedSql[] = [];
  for (let at = 0; at < tuples.length; at += together)
    where.push(amongTuples(key, tuples.slice(at, at + together)));
  return { table, columns, where, inserts, proof: { rows, digests } };
}

/** Reads a dump and writes the rows of some tables that are to be changed, with a site's edits made on them. */
export class RowChanges implements DumpVisitor {
  /** What is put into each table that is wanted. */
  readonly tables: ReadonlyMap<string, RowsToChange>;
  private readonly changing: ReadonlyMap<string, ChangingTable>;
  private readonly edits: RowEdits;
  /** What the edits changed. */
  readonly changes: RowChange[] = [];
  private readonly charset: string;
  private readonly scanner: DumpScanner;
  private readonly shapes = new Map<string, readonly string[]>();
  private cells: RowCells | undefined;
  private readonly writers = new Map<string, InsertWriter>();

  /** @param charset that of the dump */
  constructor(
    bench: Workbench,
    wanted: readonly ChangingTable[],
    { edits, charset }: { readonly edits: readonly DataEdit[]; readonly charset: string },
  ) {
    this.scanner = new DumpScanner(bench, this);
    this.changing = new Map(wanted.map(one => [one.table, one]));
    this.tables = new Map(wanted.map(one => [one.table, nothingOf(one)]));
    this.edits = new RowEdits(edits);
    this.charset = charset;
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
    this.endRows();
  }

  /**
   * Takes rows that were remembered of the dump, in place of all of it.
   * @returns whether every row that is wanted was among them; if not, all of the dump must be read
   */
  takeRemembered(pieces: readonly RowsAsText[]): boolean {
    for (const { table, columns, backslash, bytes } of pieces) {
      const wanted = this.changing.get(table);
      if (wanted) this.rowsOf(wanted, columns).push(bytesOf(bytes), { backslash });
    }
    this.endRows();
    return [...this.changing].every(([table, { keys }]) => this.tables.get(table)?.rows === keys.size);
  }

  private endRows(): void {
    for (const writer of this.writers.values()) writer.finish();
  }

  wanted(table: string): boolean {
    return this.changing.has(textOf(table as ByteString));
  }

  insert({ table, columns: listed }: InsertHead): undefined {
    this.cells = undefined;
    const name = textOf(table);
    const wanted = this.changing.get(name);
    if (!wanted) return;
    const names = listed?.map(textOf) ?? this.shapes.get(name) ?? [];
    this.cells = this.rowsOf(wanted, names);
  }

  private rowsOf(wanted: ChangingTable, names: readonly string[]): RowCells {
    const { table, columns, key, keys } = wanted;
    const rows = this.tables.get(table)!;
    const writer = this.writerOf(rows);
    const places = columns.map(column => names.indexOf(column.name));
    const keyPlaces = key.map(one => columns.findIndex(({ name }) => name === one));
    const digest = new ContentDigest(columns.map(kindOf), keyPlaces);
    return new RowCells((cells: Cell[]) => {
      const ordered = places.map(place => cells[place] ?? null);
      // No edit changes a key, and nearly all rows are none of these.
      if (!keys.has(digest.keyOf(ordered))) return;
      const seen: RowChange[] = [];
      const row = this.edits.apply(table, columns, ordered, change => seen.push(change));
      if (!row) return;
      const whole = digest.digestOf(row);
      this.changes.push(...seen);
      rows.tuples.push(tupleOf(row, columns, keyPlaces));
      rows.digests.add(whole.toString('hex'));
      rows.rows++;
      writer.row(row);
    });
  }

  private writerOf({ table, columns, inserts }: RowsToChange): InsertWriter {
    let writer = this.writers.get(table);
    if (!writer) {
      writer = new InsertWriter(chunk => inserts.push(Buffer.from(chunk)));
      const list = columns.map(column => identifier(column.name)).join();
      const written = columns.map(column => ({
        writing: writingOf(column),
        introducer: introducerOf(column, this.charset),
      }));
      writer.begin(`INSERT INTO ${identifier(table)} (${list}) VALUES`, written);
      this.writers.set(table, writer);
    }
    return writer;
  }

  rowBytes({ s }: Stretch, start: number, end: number): void {
    this.cells?.push(s.slice(start, end), this.scanner.dialect);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (shape) this.shapes.set(textOf(shape.name), shape.columns.map(textOf));
  }
}

function nothingOf({ table, columns, key }: ChangingTable): RowsToChange {
  return { table, columns, key, tuples: [], inserts: [], rows: 0, digests: new Set() };
}

/** The key of a row as a tuple of literals. */
export function tupleOf(
  cells: readonly (Buffer | null)[],
  columns: readonly Column[],
  places: readonly number[],
): EncodedSql {
  const values = places.map(at => valueSql(columns[at]!, bytesOf(cells[at] ?? Buffer.alloc(0))));
  return sql`(${joined(values)})`;
}

/** A condition that holds for the rows with some keys. */
function amongTuples(key: readonly string[], tuples: readonly EncodedSql[]): EncodedSql {
  return sql`(${joined(key.map(identifier))}) IN (${joined(tuples)})`;
}
