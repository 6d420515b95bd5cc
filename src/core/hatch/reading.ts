import type { Column } from '../sql/column.js';
import { type EncodedSql, encodedSql, identifier, joined, sql } from '../sql/encoded-sql.js';

/** A column of a key, and how its values are said again. */
interface KeyPart {
  /** What is selected, ordered and compared. */
  readonly value: EncodedSql;
  /** What is selected so that the value can be said. */
  readonly said: EncodedSql;
  literal(cell: Buffer): EncodedSql;
}

const numbers = /^(?:tinyint|smallint|mediumint|int|integer|bigint|decimal|numeric|year)$/;
const times = /^(?:date|time|datetime|timestamp)$/;
const byNumber = /^(?:enum|set|bit)$/;

/** How a column of a key is compared; undefined where its values cannot be said exactly. */
function keyPart({ name, type, charset }: Column): KeyPart | undefined {
  const value = identifier(name);
  if (byNumber.test(type)) return { value: sql`${value}+0`, said: sql`${value}+0`, literal: numberLiteral };
  if (numbers.test(type)) return { value, said: value, literal: numberLiteral };
  if (times.test(type))
    return {
      value,
      said: value,
      literal: cell => encodedSql(`'${cell.toString().replace(/[^\d:. -]/g, '')}'`),
    };
  if (charset === undefined && !/(?:binary|blob)$/.test(type)) return undefined;
  if (charset !== undefined && !/^\w+$/.test(charset)) return undefined;
  return {
    value,
    said: sql`HEX(${value})`,
    literal: cell =>
      encodedSql(`_${charset ?? 'binary'} X'${cell.toString('latin1').replace(/[^\dA-F]/gi, '')}'`),
  };
}

function numberLiteral(cell: Buffer): EncodedSql {
  return encodedSql(cell.toString('latin1').replace(/[^\d.-]/g, '') || '0');
}

/**
 * Reads a whole table in parts: by its key, each part behind the last row of the one before; a table without one in the order
 * of all its columns.
 */
export class TableParts {
  /** Cells that come behind those that were asked for. */
  private readonly extra: number;
  /** Rows that have come. */
  rows = 0;
  private readonly table: EncodedSql;
  private readonly selected: readonly EncodedSql[];
  private readonly key: readonly KeyPart[];
  private readonly columns: readonly Column[];
  private last: readonly Buffer[] | undefined;

  constructor(
    table: string,
    selected: readonly EncodedSql[],
    { key, columns }: { readonly key: readonly string[] | undefined; readonly columns: readonly Column[] },
  ) {
    this.table = identifier(table);
    this.selected = selected;
    this.columns = columns;
    const parts = (key ?? []).map(name => keyPart(columns.find(column => column.name === name)!));
    this.key = parts.every(part => part !== undefined) ? (parts as KeyPart[]) : [];
    this.extra = this.key.length;
  }

  /** The statement that gives the next rows. */
  next(most: number): EncodedSql {
    const list = joined([...this.selected, ...this.key.map(({ said }) => said)]);
    if (this.key.length === 0) {
      const order = joined(this.columns.map(({ name }) => sql`CAST(${identifier(name)} AS BINARY)`));
      return sql`SELECT ${list} FROM ${this.table} ORDER BY ${order} LIMIT ${this.rows}, ${most}`;
    }
    const order = joined(this.key.map(({ value }) => value));
    const where = this.last ? sql` WHERE ${this.behind(this.last)}` : sql``;
    return sql`SELECT ${list} FROM ${this.table}${where} ORDER BY ${order} LIMIT ${most}`;
  }

  /** Takes in that so many rows have come, and the last of them. */
  came(count: number, last: (Buffer | null)[]): void {
    this.rows += count;
    if (count > 0 && this.extra > 0) this.last = last.slice(-this.extra) as Buffer[];
  }

  /** The cells of a row that were asked for. */
  asked(cells: (Buffer | null)[]): (Buffer | null)[] {
    return this.extra === 0 ? cells : cells.slice(0, -this.extra);
  }

  /** `a > 1 OR (a = 1 AND b > 2)`, for servers work that out better than a comparison of rows. */
  private behind(last: readonly Buffer[]): EncodedSql {
    const ways = this.key.map((_, i) => {
      const equal = this.key.slice(0, i).map((part, j) => sql`${part.value} = ${part.literal(last[j]!)}`);
      const { value, literal } = this.key[i]!;
      return sql`(${joined([...equal, sql`${value} > ${literal(last[i]!)}`], sql` AND `)})`;
    });
    // The first column alone says where to begin.
    const { value, literal } = this.key[0]!;
    return sql`${value} >= ${literal(last[0]!)} AND (${joined(ways, sql` OR `)})`;
  }
}
