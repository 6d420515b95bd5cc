import { EscapingBuffer } from '../kernels/escaping-buffer.js';
import { isNumber, type Writing } from '../sql/column.js';

/** A row as the server gives it: the bytes of each cell, or null for NULL. */
export type Cells = readonly (Buffer | null)[];

/** So long may a statement be, in bytes, unless one row alone is longer: short enough for every server's limit. */
const longest = 512 * 1024;
/** Bytes that are passed on together: packing them takes longer than other work may keep it waiting. */
const chunkBytes = 2 * 1024 * 1024;

/** How a column is written. */
export interface WrittenColumn {
  readonly writing: Writing;
  /** What is before its strings. */
  readonly introducer: string;
}

/** Writes rows as INSERT statements of many rows each, in chunks of some megabytes. */
export class InsertWriter {
  /** Rows since `begin`. */
  rows = 0;
  private readonly out: EscapingBuffer;
  private head = '';
  private columns: readonly WrittenColumn[] = [];
  /** Where the statement began that is being written; undefined between statements. */
  private statement: number | undefined;

  constructor(emit: (chunk: Buffer) => void) {
    this.out = new EscapingBuffer(chunkBytes, emit);
  }

  /** Begins with a table's rows. @param head all of a statement that comes before them */
  begin(head: string, columns: readonly WrittenColumn[]): void {
    this.head = head;
    this.columns = columns;
    this.rows = 0;
  }

  row(cells: Cells): void {
    let most = 8;
    for (const cell of cells) most += cell === null ? 5 : 2 * cell.length + 80;
    if (this.statement !== undefined && this.out.written - this.statement + most > longest)
      this.endStatement();
    if (this.statement === undefined) {
      this.statement = this.out.written;
      this.out.put(this.head);
      this.out.put('\n(');
    } else this.out.put(',\n(');
    for (let i = 0; i < cells.length; i++) {
      if (i > 0) this.out.put(',');
      this.cell(cells[i]!, this.columns[i]!);
    }
    this.out.put(')');
    this.rows++;
  }

  /** Ends the last statement and passes on what is left. */
  finish(): void {
    if (this.statement !== undefined) this.endStatement();
    this.out.flush();
  }

  private cell(cell: Buffer | null, { writing, introducer }: WrittenColumn): void {
    if (cell === null) this.out.put('NULL');
    else if (writing === 'number' && isNumber(cell)) this.out.putEscaped(cell);
    else if (writing === 'bits')
      this.out.put(`b'${[...cell].map(byte => byte.toString(2).padStart(8, '0')).join('')}'`);
    else {
      if (writing !== 'number') this.out.put(introducer);
      this.out.put("'");
      this.out.putEscaped(cell);
      this.out.put("'");
    }
  }

  private endStatement(): void {
    this.out.put(';\n');
    this.statement = undefined;
  }
}
