import { createHash, hash } from 'node:crypto';
import { asBytes, type ByteString, bytesOf, type Stretch, textOf } from '../../bytes.js';
import type { Workbench } from '../../kernels/workbench.js';
import type { DataEdit } from '../../site/data/data-edits.js';
import { RowEdits } from '../../site/data/row-edits.js';
import { type Cell, RowCells } from '../../sql/cells.js';
import type { Column } from '../../sql/column.js';
import { readCreateTable, type TableShape } from '../../sql/create-table.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from '../../sql/scanner.js';
import { unquoteName } from '../../sql/tokens.js';
import { ContentDigest, kindOf, type TableContent } from './content-digest.js';
import { DumpShapes } from './dump-shapes.js';
import { digestBytes, type PieceMemory, type RememberedRows } from './piece-prints.js';
import { RowPieces } from './row-pieces.js';
import type { RowPrints } from './row-prints.js';

/** A view, or what runs at the server. */
export interface Program {
  readonly kind: 'VIEW' | 'TRIGGER' | 'PROCEDURE' | 'FUNCTION' | 'EVENT';
  readonly name: string;
}

/** The content of a table's rows in a dump once they are loaded; undefined where only the server can say. */
export type DumpContents = ReadonlyMap<string, TableContent | undefined>;

/** What is looked at of a dump, and how. */
export interface DumpContentOptions {
  /** Of the tables that it is compared with; left out, they are those that the dump itself makes. */
  readonly columns?: ReadonlyMap<string, readonly Column[]>;
  /** Made on its rows before they are looked at. */
  readonly edits?: readonly DataEdit[];
  /** The columns by which rows are known, of tables of which fingerprints are taken. */
  readonly keys?: ReadonlyMap<string, readonly string[]>;
  /** Whether these are kept as a whole; if not, only the memory of pieces gets them. */
  readonly keepsPrints?: boolean;
  /** Pieces that were looked at before. */
  readonly memory?: PieceMemory | undefined;
  /** Gets the rows of all others. */
  readonly remembered?: RememberedRows;
}

/** Rows of one table as they come. */
interface RowsOfTable {
  readonly table: string;
  readonly columns: readonly string[];
  readonly backslash: boolean;
  /** A digest of all that the digests of its rows depend on besides the rows. */
  readonly mark: Buffer;
  /** That of the rows of one piece. */
  readonly one: ContentDigest;
  readonly cells: RowCells;
}

const nothing = Buffer.alloc(0);

/** Takes the digest of every table's rows in a dump, to compare it with that of the loaded tables. */
export class DumpContent implements DumpVisitor {
  /** The character set and the time zone in which the dump is written, as it says; undefined where it does not. */
  charset: string | undefined;
  timeZone: string | undefined;
  /** What it makes besides tables, and where tables continue counting. */
  readonly programs: Program[] = [];
  readonly nextNumbers = new Map<string, string>();
  /** Of each table, those that hold values of their own. */
  readonly columns: ReadonlyMap<string, readonly Column[]>;
  private readonly derived: Map<string, readonly Column[]> | undefined;
  private readonly scanner: DumpScanner;
  private readonly digests = new Map<string, ContentDigest | undefined>();
  private readonly shapes = new Map<string, readonly string[]>();
  private readonly edits: RowEdits;
  private readonly options: DumpContentOptions;
  /** How tables and programs are made. */
  readonly made = new DumpShapes();
  private readonly pieces = new RowPieces(piece => this.takePiece(piece));
  /** What the rows are of that are read; undefined where nobody asks for them. */
  private rows: RowsOfTable | undefined;

  constructor(bench: Workbench, options: DumpContentOptions = {}) {
    this.options = options;
    this.scanner = new DumpScanner(bench, this);
    this.edits = new RowEdits(options.edits ?? []);
    this.derived = options.columns ? undefined : new Map();
    this.columns = options.columns ?? this.derived!;
  }

  /** See `DumpScanner`. @throws DamageError when the bytes cannot be an SQL dump */
  push(chunk: Buffer, before?: number): void {
    this.scanner.push(chunk, before);
  }

  /** @throws DamageError when the dump ends too early */
  finish(): void {
    this.scanner.finish();
    this.pieces.finish();
  }

  insert({ table, columns }: InsertHead): undefined {
    const name = textOf(table);
    const listed = columns?.map(textOf) ?? this.shapes.get(name) ?? [];
    const { rows } = this;
    const { backslash } = this.scanner.dialect;
    if (rows?.table === name && rows.backslash === backslash && isSameList(rows.columns, listed)) return;
    this.pieces.finish();
    this.rows = undefined;
    const loaded = this.columns.get(name);
    if (!loaded) {
      this.digests.set(name, undefined);
      return;
    }
    if (!this.digests.has(name)) this.digests.set(name, this.newDigest(name, loaded));
    const places = loaded.map(column => listed.indexOf(column.name));
    if (places.includes(-1)) this.digests.set(name, undefined);
    else this.rows = this.rowsOf(name, { loaded, listed, places, backslash });
  }

  private rowsOf(
    table: string,
    {
      loaded,
      listed,
      places,
      backslash,
    }: {
      readonly loaded: readonly Column[];
      readonly listed: readonly string[];
      readonly places: readonly number[];
      readonly backslash: boolean;
    },
  ): RowsOfTable {
    const one = this.newDigest(table, loaded, true);
    const cells = new RowCells((row: Cell[]) => {
      const ordered = places.map(place => row[place]);
      if (ordered.includes(undefined)) this.digests.set(table, undefined);
      else {
        const edited = this.edits.apply(table, loaded, ordered as (Buffer | null)[]);
        if (edited) one.add(edited);
      }
    });
    const key = this.options.keys?.get(table) ?? [];
    const what = [table, listed, loaded.map(column => [column.name, kindOf(column)]), key, backslash];
    const mark = hash('sha256', JSON.stringify(what), 'buffer');
    return { table, columns: listed, backslash, mark, one, cells };
  }

  /** Takes the digests of a piece of rows, unless they were taken before. */
  private takePiece(piece: Buffer): void {
    const { rows, options } = this;
    const total = rows && this.digests.get(rows.table);
    if (!rows || !total) return;
    const { table, columns, backslash, mark, one, cells } = rows;
    // What an edit makes of a row is not in the dump.
    const memory = this.edits.concerns(table) || !one.prints ? undefined : options.memory;
    const digest = memory && digestOfPiece(mark, piece);
    const known = digest && memory?.find(digest);
    if (known) {
      total.addTaken(known.rows, known.sum, known.prints);
      memory.keep(digest, known);
      return;
    }
    options.remembered?.add({ table, columns, backslash, bytes: piece });
    one.clear();
    cells.push(bytesOf(piece), { backslash });
    if (!this.digests.get(table)) return;
    const taken = { rows: one.rows, sum: one.sumOfRows(), prints: one.prints?.bytes() ?? nothing };
    total.addTaken(taken.rows, taken.sum, taken.prints);
    if (digest) memory?.keep(digest, taken);
  }

  row(end: number): undefined {
    if (this.rows) this.pieces.rowEnds(end);
  }

  rowBytes(stretch: Stretch, start: number, end: number): void {
    if (this.rows) this.pieces.push(stretch, start, end);
  }

  statement(s: ByteString, start: number, end: number): undefined {
    const text = s.slice(start, end);
    this.made.take(asBytes(text));
    this.charset ??= /^(?:\/\*!\d*\s*)?set\s+names\s+'?(\w+)/i.exec(text.slice(0, 100))?.[1];
    this.timeZone ??= /^(?:\/\*!\d*\s*)?set\s+(?:session\s+)?time_zone\s*=\s*['"]([-+:\w/]+)['"]/i.exec(
      text.slice(0, 100),
    )?.[1];
    const program =
      /\b(view|trigger|procedure|function|event)\s+(?:if\s+not\s+exists\s+)?(`(?:[^`]|``)+`|[\w$]+)/i;
    const [, kind, named] =
      (/^(?:\/\*M?!\d*\s*)?create\b/i.test(text) && program.exec(text.slice(0, 2000))) || [];
    const shape = readCreateTable(text);
    if (!shape) {
      if (named)
        this.programs.push({
          kind: kind!.toUpperCase() as Program['kind'],
          name: textOf(unquoteName(named)),
        });
      return;
    }
    const name = textOf(shape.name);
    const next = /\)[^)]*\bAUTO_INCREMENT=(\d+)[^)]*$/i.exec(text)?.[1];
    if (next) this.nextNumbers.set(name, next);
    this.shapes.set(name, shape.columns.map(textOf));
    this.derived?.set(name, columnsOf(shape));
    if (!this.digests.has(name)) this.digests.set(name, this.newDigest(name, this.columns.get(name) ?? []));
  }

  /** The fingerprints of a table's rows, where they were asked for and its rows could be read. */
  prints(table: string): RowPrints | undefined {
    return this.digests.get(table)?.prints;
  }

  /** @param ofPiece whether it is used for one piece after the other */
  private newDigest(table: string, columns: readonly Column[], ofPiece = false): ContentDigest {
    const { keys, keepsPrints = true } = this.options;
    const places = keys?.get(table)?.map(name => columns.findIndex(column => column.name === name));
    const key = places?.includes(-1) ? undefined : places;
    return new ContentDigest(columns.map(kindOf), key, ofPiece || keepsPrints);
  }

  contents(): DumpContents {
    return new Map([...this.digests].map(([table, digest]) => [table, digest?.content()]));
  }
}

/** BLAKE2b (RFC 7693), the fastest that nobody can find two pieces for, of its bytes the first 32. */
function digestOfPiece(mark: Buffer, piece: Buffer): Buffer {
  return createHash('blake2b512').update(mark).update(piece).digest().subarray(0, digestBytes);
}

function isSameList(one: readonly string[], other: readonly string[]): boolean {
  return one.length === other.length && one.every((name, i) => name === other[i]);
}

/** The columns of a CREATE TABLE that hold values of their own. */
function columnsOf({ columns, types }: TableShape): Column[] {
  return columns
    .map((name, i) => ({ name: textOf(name), charset: undefined, ...types[i]! }))
    .filter(({ generated }) => !generated);
}
