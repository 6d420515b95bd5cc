/** What a hatch answers to statements, in order. */
export interface RowTaker {
  /** A row. The cells are parts of the answer. */
  row(cells: (Buffer | null)[]): void;
  /** The end of a statement that went well. @param found SHA-256 of its rows */
  end(effect: { readonly affected: number }, found: Buffer): void;
}

const noCell = 0xffffffff;
/** `R`, `E` and `P`. */
const letter = { row: 0x52, end: 0x45, part: 0x50 };

/**
 * Reads the answer to statements: `R`, the number of cells and each with its length; `E`, how many are affected and the digest
 * of the rows (zeros for a part of a table); `P` where the slice ended before the last row.
 */
export function readRows(data: Buffer, taker: RowTaker): void {
  for (let at = 0; at < data.length; ) {
    const kind = data[at++];
    if (kind === letter.row) {
      const cells = new Array<Buffer | null>(data.readUInt16BE(at));
      at += 2;
      for (let i = 0; i < cells.length; i++) {
        const length = data.readUInt32BE(at);
        at += 4;
        cells[i] = length === noCell ? null : data.subarray(at, at + length);
        if (length !== noCell) at += length;
      }
      taker.row(cells);
    } else if (kind === letter.end) {
      taker.end({ affected: Number(data.readBigUInt64BE(at)) }, data.subarray(at + 8, at + 40));
      at += 40;
    } else if (kind !== letter.part) throw new Error('the answer of the hatch cannot be read');
  }
}

/** How many rows an answer to one statement holds, and the last of them. */
export function lastRow(data: Buffer): { readonly count: number; readonly cells: (Buffer | null)[] } {
  let count = 0;
  let last = 0;
  for (let at = 0; data[at] === letter.row; count++) {
    last = at;
    const cells = data.readUInt16BE(at + 1);
    at += 3;
    for (let i = 0; i < cells; i++) {
      const length = data.readUInt32BE(at);
      at += length === noCell ? 4 : 4 + length;
    }
  }
  let cells: (Buffer | null)[] = [];
  if (count > 0) readRows(data.subarray(last), { row: row => (cells = row), end: () => {} });
  return { count, cells };
}

/** A statement, and whether it is run again for what it does to the session, or may give a part of its rows. */
export interface HatchStatement {
  readonly sql: string;
  readonly kind: 'once' | 'repeated' | 'in parts';
}

const letters = { once: 's', repeated: 'r', 'in parts': 'q' } as const;

/** Statements as a hatch takes them; the text is bytes, one a character. */
export function statementBytes(statements: readonly HatchStatement[]): Buffer {
  const parts = statements.flatMap(({ sql, kind }) => {
    const head = Buffer.alloc(5, letters[kind]);
    head.writeUInt32BE(sql.length, 1);
    return [head, Buffer.from(sql, 'latin1')];
  });
  return Buffer.concat(parts);
}
