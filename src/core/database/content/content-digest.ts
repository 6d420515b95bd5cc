import { hash } from 'node:crypto';
import type { Column } from '../../sql/column.js';
import { RowPrints } from './row-prints.js';

/** The content of a table's rows, whatever their order. */
export interface TableContent {
  readonly rows: number;
  /** In hex; equal for equal rows. */
  readonly digest: string;
}

/** The class of a column's type, as far as two ways of writing one value must compare as equal. */
export type Kind = 'integer' | 'decimal' | 'float' | 'double' | 'bits' | 'other';

export function kindOf({ type }: Pick<Column, 'type'>): Kind {
  if (/^(?:tinyint|smallint|mediumint|int|integer|bigint|year)$/.test(type)) return 'integer';
  if (/^(?:decimal|numeric)$/.test(type)) return 'decimal';
  if (type === 'float') return 'float';
  if (/^(?:double|real)$/.test(type)) return 'double';
  return type === 'bit' ? 'bits' : 'other';
}

const lanes = 8;
/** Bytes of the sum of rows' digests. */
export const sumBytes = 4 * lanes;

/**
 * Takes the digest of rows in any order: each row's SHA-256, added up in eight lanes of 32 bits. Two tables with the
 * same rows have the same sum; a row that changes, is missing or is twice gives another.
 */
export class ContentDigest {
  rows = 0;
  private readonly sum = new Uint32Array(lanes);
  private readonly kinds: readonly Kind[];
  /** The columns of the key, where rows are kept apart by it. */
  private readonly key: readonly number[] | undefined;
  private buffer = Buffer.allocUnsafe(65536);
  /** Of each row, where its key is given. */
  readonly prints: RowPrints | undefined;

  /**
   * @param key the columns by which a row is known (none: all of it); left out where no fingerprints are taken
   * @param keepsPrints whether they are kept here
   */
  constructor(kinds: readonly Kind[], key?: readonly number[], keepsPrints = true) {
    this.kinds = kinds;
    this.key = key;
    this.prints = key && keepsPrints ? new RowPrints() : undefined;
  }

  add(cells: readonly (Buffer | null)[]): void {
    const digest = this.digestOf(cells);
    for (let lane = 0; lane < lanes; lane++) this.sum[lane]! += digest.readUInt32LE(4 * lane);
    this.rows++;
    this.prints?.add(this.keyOf(cells, digest), digest);
  }

  /** The bytes by which a row is known: those of its key. @param digest of the row, which stands for a key */
  keyOf(cells: readonly (Buffer | null)[], digest?: Buffer): Uint8Array {
    const { key } = this;
    if (!key || key.length === 0) return digest ?? this.digestOf(cells);
    if (key.length === 1) return plainForm(cells[key[0]!] ?? nothing, this.kinds[key[0]!] ?? 'other');
    const parts = key.map(i => plainForm(cells[i] ?? nothing, this.kinds[i] ?? 'other'));
    return Buffer.concat(parts.flatMap(part => [Buffer.from(`${part.length}:`), part]));
  }

  /** The digest of one row. */
  digestOf(cells: readonly (Buffer | null)[]): Buffer {
    let at = 0;
    for (let i = 0; i < cells.length; i++) {
      const cell = cells[i];
      const bytes = cell ? plainForm(cell, this.kinds[i] ?? 'other') : undefined;
      const length = bytes?.length ?? 0;
      if (at + length + 8 > this.buffer.length) {
        const larger = Buffer.allocUnsafe(2 * (at + length + 8));
        this.buffer.copy(larger, 0, 0, at);
        this.buffer = larger;
      }
      // The length before each cell keeps ('ab', 'c') and ('a', 'bc') apart.
      at = this.buffer.writeInt32LE(bytes ? length : -1, at);
      if (bytes) at += bytes.copy(this.buffer, at);
    }
    return hash('sha256', this.buffer.subarray(0, at), 'buffer');
  }

  /** Adds rows whose digests were taken before. @param sum as `sumOfRows` gave it */
  addTaken(rows: number, sum: Buffer, prints: Buffer): void {
    for (let lane = 0; lane < lanes; lane++) this.sum[lane]! += sum.readUInt32LE(4 * lane);
    this.rows += rows;
    this.prints?.addAll(prints);
  }

  /** Begins anew. */
  clear(): void {
    this.rows = 0;
    this.sum.fill(0);
    this.prints?.clear();
  }

  /** The sum of all rows' digests, in `sumBytes` bytes; good until a row is added. */
  sumOfRows(): Buffer {
    return Buffer.from(this.sum.buffer);
  }

  content(): TableContent {
    return { rows: this.rows, digest: this.sumOfRows().toString('hex') };
  }
}

const nothing = Buffer.alloc(0);

/** A cell in the one form in which equal values have equal bytes. */
function plainForm(cell: Buffer, kind: Kind): Buffer {
  switch (kind) {
    case 'other':
      return cell;
    case 'bits': {
      let from = 0;
      while (from < cell.length && cell[from] === 0) from++;
      return cell.subarray(from);
    }
    case 'integer':
    case 'decimal':
      return Buffer.from(plainDecimal(cell.toString('latin1')), 'latin1');
    case 'float':
      return Buffer.from(String(Math.fround(Number(cell.toString('latin1')))), 'latin1');
    case 'double':
      return Buffer.from(String(Number(cell.toString('latin1'))), 'latin1');
  }
}

/** `-007.50` as `-7.5`; what is not written so stays as it is. */
function plainDecimal(text: string): string {
  const [, sign, whole, fraction] = /^([-+]?)0*(\d*)(?:\.(\d*?)0*)?$/.exec(text) ?? [];
  if (whole === undefined) return text;
  const value = `${whole || '0'}${fraction ? `.${fraction}` : ''}`;
  return sign === '-' && value !== '0' ? `-${value}` : value;
}
