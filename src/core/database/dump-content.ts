import { asBytes, type ByteString, type Stretch, textOf } from '../bytes.js';
import type { Workbench } from '../kernels/workbench.js';
import type { DataEdit } from '../site/data/data-edits.js';
import { RowEdits } from '../site/data/row-edits.js';
import { type Cell, RowCells } from '../sql/cells.js';
import type { Column } from '../sql/column.js';
import { readCreateTable, type TableShape } from '../sql/create-table.js';
import { DumpScanner, type DumpVisitor, type InsertHead } from '../sql/scanner.js';
import { unquoteName } from '../sql/tokens.js';
import { ContentDigest, kindOf, type TableContent } from './content-digest.js';
import { DumpShapes } from './dump-shapes.js';
import type { RowPrints } from './row-prints.js';

/** A view, or what runs at the server. */
export interface Program {
  readonly kind: 'VIEW' | 'TRIGGER' | 'PROCEDURE' | 'FUNCTION' | 'EVENT';
  readonly name: string;
}

/** The content of a table's rows in a dump once they are loaded; undefined where only the server can say. */
export type DumpContents = ReadonlyMap<string, TableContent | undefined>;

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
  private readonly keys: ReadonlyMap<string, readonly string[]> | undefined;
  /** How tables and programs are made. */
  readonly made = new DumpShapes();
  private cells: RowCells | undefined;

  /**
   * @param columns of the tables that it is compared with; left out, they are those that the dump itself makes
   * @param edits made on its rows before they are looked at
   * @param keys the columns by which rows are known, of tables of which fingerprints are taken
   */
  constructor(
    bench: Workbench,
    columns?: ReadonlyMap<string, readonly Column[]>,
    edits: readonly DataEdit[] = [],
    keys?: ReadonlyMap<string, readonly string[]>,
  ) {
    this.keys = keys;
    this.scanner = new DumpScanner(bench, this);
    this.edits = new RowEdits(edits);
    this.derived = columns ? undefined : new Map();
    this.columns = columns ?? this.derived!;
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
    const name = textOf(table);
    const loaded = this.columns.get(name);
    const listed = columns?.map(textOf) ?? this.shapes.get(name) ?? [];
    if (!loaded) {
      this.cells = undefined;
      this.digests.set(name, undefined);
      return;
    }
    if (!this.digests.has(name)) this.digests.set(name, this.newDigest(name, loaded));
    const digest = this.digests.get(name);
    const places = loaded.map(column => listed.indexOf(column.name));
    const whole = digest !== undefined && places.every(place => place >= 0);
    if (!whole) this.digests.set(name, undefined);
    this.cells = new RowCells((cells: Cell[]) => {
      const ordered = places.map(place => cells[place]);
      if (!whole || ordered.includes(undefined)) this.digests.set(name, undefined);
      else {
        const row = this.edits.apply(name, loaded, ordered as (Buffer | null)[]);
        if (row) digest.add(row);
      }
    });
  }

  rowBytes({ s }: Stretch, start: number, end: number): void {
    this.cells?.push(s.slice(start, end), this.scanner.dialect);
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

  private newDigest(table: string, columns: readonly Column[]): ContentDigest {
    const places = this.keys?.get(table)?.map(name => columns.findIndex(column => column.name === name));
    return new ContentDigest(columns.map(kindOf), places?.includes(-1) ? undefined : places);
  }

  contents(): DumpContents {
    return new Map([...this.digests].map(([table, digest]) => [table, digest?.content()]));
  }
}

/** The columns of a CREATE TABLE that hold values of their own. */
function columnsOf({ columns, types }: TableShape): Column[] {
  return columns
    .map((name, i) => ({ name: textOf(name), charset: undefined, ...types[i]! }))
    .filter(({ generated }) => !generated);
}
