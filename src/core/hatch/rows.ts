/** What a hatch answers to statements, in order. */
export interface RowTaker {
  /** A row. The cells are parts of the answer. */
  row(cells: (Buffer | null)[]): void;
  /** The end of a statement that went well. @param found SHA-256 of its rows */
  end(effect: { readonly affected: number }, found: Buffer): void;
}

const noCell = 0xffffffff;

/**
 * Reads the answer to statements: `R`, the number of cells and each with its length; `E`, how many are affected and the digest
 * of the rows; `P` where the slice ended before the last row.
 */
export function readRows(data: Buffer, taker: RowTaker): void {
  for (let at = 0; at < data.length; ) {
    const kind = data[at++];
    if (kind === 0x52) {
      const cells = new Array<Buffer | null>(data.readUInt16BE(at));
      at += 2;
      for (let i = 0; i < cells.length; i++) {
        const length = data.readUInt32BE(at);
        at += 4;
        cells[i] = length === noCell ? null : data.subarray(at, at + length);
        if (length !== noCell) at += length;
      }
      taker.row(cells);
    } else if (kind === 0x45) {
      taker.end({ affected: Number(data.readBigUInt64BE(at)) }, data.subarray(at + 8, at + 40));
      at += 40;
    } else if (kind !== 0x50) throw new Error('the answer of the hatch cannot be read');
  }
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
