import { type ByteString, type Stretch, textOf } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import type { DataEdit } from '../site/data/data-edits.js';
import { type RowChange, RowEdits, statementOf } from '../site/data/row-edits.js';
import { type Cell, RowCells } from '../sql/cells.js';
import { readCreateTable } from '../sql/create-table.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from '../sql/scanner.js';

/** The outcome of one edit in a dump. */
export interface DumpEdit {
  readonly edit: DataEdit;
  rows: number;
  /** The first change of a value. */
  first: RowChange['put'];
  readonly held: string[];
}

/** Reads a dump and computes the statements that make a site's edits on it once it is loaded. */
export class DumpEdits implements DumpVisitor {
  readonly done = new Map<DataEdit, DumpEdit>();
  private readonly statements = new Set<ByteString>();
  private readonly edits: RowEdits;
  private readonly scanner: DumpScanner;
  private readonly shapes = new Map<string, readonly string[]>();
  private cells: RowCells | undefined;

  constructor(bench: Workbench, edits: readonly DataEdit[]) {
    this.scanner = new DumpScanner(bench, this);
    this.edits = new RowEdits(edits);
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
  }

  /** The statements, to be put after the dump; empty where there are none. */
  tail(): Buffer {
    if (this.statements.size === 0) return Buffer.alloc(0);
    const lines = [...this.statements].map(sql => `${sql};\n`).join('');
    return Buffer.from(
      `\n-- What is set right for the new address\nSET NAMES utf8mb4;\nSET SQL_MODE='';\n${lines}`,
      'latin1',
    );
  }

  insert({ table, columns }: InsertHead): undefined {
    const name = textOf(table);
    this.cells = undefined;
    if (!this.edits.concerns(name)) return;
    const listed = (columns ?? this.shapes.get(name) ?? []).map(column => ({ name: textOf(column) }));
    this.cells = new RowCells((cells: Cell[]) => {
      if (cells.includes(undefined)) return;
      this.edits.apply(name, listed, cells as (Buffer | null)[], change => this.note(change));
    });
  }

  rowBytes({ s }: Stretch, start: number, end: number): void {
    this.cells?.push(s.slice(start, end), this.scanner.dialect);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const shape = readCreateTable(s.slice(start, end));
    if (shape) this.shapes.set(textOf(shape.name), shape.columns);
  }

  private note(change: RowChange): void {
    const { edit, put } = change;
    const done = this.done.get(edit) ?? { edit, rows: 0, first: put, held: [] };
    this.done.set(edit, done);
    done.rows++;
    if (put) done.held.push(...(edit.heldBack?.(put.before, put.after) ?? []));
    this.statements.add(statementOf(change));
  }
}
