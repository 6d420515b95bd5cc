import { type EncodedSql, identifier, sql } from './encoded-sql.js';

/** What a server says of one column of a table. */
export interface Column {
  readonly name: string;
  /** Its type without length, in small letters: `varchar`, `bigint`, … */
  readonly type: string;
  /** The character set of its text; undefined for what is not text. */
  readonly charset: string | undefined;
  /** Whether the server works it out from others. */
  readonly generated: boolean;
}

/** How the cells of a column are written in a dump. */
export type Writing = 'number' | 'bits' | 'bytes' | 'text';

const numbers = /^(?:tinyint|smallint|mediumint|int|integer|bigint|decimal|numeric|float|double|real|year)$/;
/** Types that are not text to the server and are written as text all the same. */
const worded = /^(?:date|time|datetime|timestamp|enum|set|json|uuid|inet4|inet6|xmltype)$/;

/** How the cells of a column are written. */
export function writingOf({ type, charset }: Column): Writing {
  if (numbers.test(type)) return 'number';
  if (type === 'bit') return 'bits';
  return charset !== undefined || worded.test(type) ? 'text' : 'bytes';
}

/**
 * What is before a column's strings: bytes say that they are, and text says in which character set it is written
 * where the column itself has another one.
 * @param spoken the character set of the dump
 */
export function introducerOf(column: Column, spoken: string): string {
  if (writingOf(column) === 'bytes') return '_binary ';
  return column.charset === undefined || isPartOf(column.charset, spoken) ? '' : `_${spoken} `;
}

/** Whether text of one character set has the same bytes in another. */
function isPartOf(charset: string, other: string): boolean {
  return charset === other || (/^utf8(?:mb3)?$/.test(charset) && other === 'utf8mb4');
}

/**
 * What to select so that a cell can be written exactly. A server shows six digits of a FLOAT; as a DOUBLE it shows
 * as many as are needed to read the same value back. (Times one keeps the sign of a negative zero.) Some drivers make a
 * number of bits; as text they stay the bytes that they are.
 */
export function selectedAs(column: Column): EncodedSql {
  const name = identifier(column.name);
  if (column.type === 'float') return sql`${name}*1e0`;
  return column.type === 'bit' ? sql`CONCAT(${name})` : name;
}

/** Whether bytes are a number as servers write it. What is none may be SQL, and is written between quotes. */
export function isNumber(bytes: Uint8Array): boolean {
  let at = bytes[0] === 0x2d || bytes[0] === 0x2b ? 1 : 0;
  const digits = () => {
    const from = at;
    while (bytes[at]! >= 0x30 && bytes[at]! <= 0x39) at++;
    return at - from;
  };
  let count = digits();
  if (bytes[at] === 0x2e) {
    at++;
    count += digits();
  }
  if (count === 0) return false;
  if (bytes[at] === 0x65 || bytes[at] === 0x45) {
    at++;
    if (bytes[at] === 0x2d || bytes[at] === 0x2b) at++;
    if (digits() === 0) return false;
  }
  return at === bytes.length;
}
