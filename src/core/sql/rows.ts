import { asBytes, type ByteString, type Stretch } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import { readCreateTable } from './create-table.js';
import { openLiteral } from './literal.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from './scanner.js';

/** A row as its columns' bytes; NULL is null, numbers are as they are written. */
export type Row = Readonly<Record<string, ByteString | null>>;

/** Reads all rows of a dump into memory; for dumps that are known to be small. */
export class DumpRows implements DumpVisitor {
  private readonly texts = new Map<string, string[]>();
  private readonly shapes = new Map<string, readonly string[]>();
  private readonly scanner: DumpScanner;

  constructor(bench: Workbench) {
    this.scanner = new DumpScanner(bench, this);
  }

  private current: string[] = [];

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  insert({ table, columns }: InsertHead): undefined {
    if (columns) this.shapes.set(table, columns);
    this.current = this.texts.get(table) ?? [];
    this.texts.set(table, this.current);
  }

  rowBytes({ s }: Stretch, start: number, end: number): void {
    this.current.push(s.slice(start, end));
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (!shape) return;
    this.shapes.set(shape.name, shape.columns);
    if (!this.texts.has(shape.name)) this.texts.set(shape.name, []);
  }

  /** The tables and their rows. */
  tables(): Map<string, Row[]> {
    const tables = new Map<string, Row[]>();
    for (const [table, texts] of this.texts)
      tables.set(table, rowsIn(texts.join(''), this.shapes.get(table) ?? []));
    return tables;
  }
}

const cell = /'((?:[^'\\]|\\.|'')*)'|([(),])|([^\s'(),]+)/gs;

function rowsIn(text: string, columns: readonly string[]): Row[] {
  const rows: Row[] = [];
  let row: Record<string, ByteString | null> = {};
  let column = 0;
  for (const [, quoted, mark, word] of text.matchAll(cell)) {
    if (mark === '(') {
      row = {};
      column = 0;
    } else if (mark === ',') column++;
    else if (mark === ')') rows.push(row);
    else {
      const value =
        quoted === undefined
          ? plain(word!)
          : openLiteral(quoted, 0, quoted.length, 0x27, { backslash: true }).value;
      row[columns[column] ?? `column ${column + 1}`] = value;
    }
  }
  return rows;
}

function plain(word: string): ByteString | null {
  return /^null$/i.test(word) ? null : asBytes(word);
}
