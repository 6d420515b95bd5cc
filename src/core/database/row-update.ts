import { createHash } from 'node:crypto';
import { asBytes, type ByteString } from '../bytes.js';
import { type Column, isNumber, writingOf } from '../sql/column.js';
import {
  type EncodedSql,
  encodedSql,
  hexLiteral,
  identifier,
  joined,
  literal,
  literalOfBytes,
  sql,
} from '../sql/encoded-sql.js';

/** A table whose rows are rewritten where they are. */
export interface LiveTable {
  readonly name: string;
  readonly columns: readonly LiveColumn[];
  /** Indexes of the columns that tell one row from all others; none where the table has no such key. */
  readonly key: readonly number[];
}

interface LiveColumn extends Column {
  /** Whether the server sets it again with every change of the row. */
  readonly touched: boolean;
}

/** One cell that changes. */
export interface CellChange {
  readonly column: LiveColumn;
  readonly before: ByteString;
  readonly after: ByteString;
}

/** Whether a column can hold an address: text, JSON, and bytes; not words from a list, dates and numbers. */
export function canHoldAddress(column: Column): boolean {
  const writing = writingOf(column);
  if (column.generated || /^(?:enum|set)$/.test(column.type)) return false;
  return writing === 'text'
    ? column.charset !== undefined || column.type === 'json'
    : writing === 'bytes' && /(?:binary|blob)$/.test(column.type);
}

/** Reads rows in the order of the key, after one that was read before. @param after the key's cells of the last row */
export function pageSql(
  table: LiveTable,
  after: readonly ByteString[] | undefined,
  most: number,
): EncodedSql {
  const columns = keyColumns(table);
  const names = columns.map(({ name }) => identifier(name));
  const page = sql` ORDER BY ${joined(names)} LIMIT ${most}`;
  if (!after) return sql`${selectSql(table)}${page}`;
  const values = columns.map((column, n) => valueSql(column, after[n] ?? asBytes('')));
  const beyond = names.map((name, n) => {
    const same = names.slice(0, n).map((one, m) => sql`${one} = ${values[m]!}`);
    return sql`(${joined([...same, sql`${name} > ${values[n]!}`], sql` AND `)})`;
  });
  // The first comparison lets the server begin at the right place of the index.
  return sql`${selectSql(table)} WHERE ${names[0]!} >= ${values[0]!} AND (${joined(beyond, sql` OR `)})${page}`;
}

/** Reads all columns of all rows. */
export function selectSql(table: LiveTable): EncodedSql {
  const columns = table.columns.map(({ name }) => identifier(name));
  return sql`SELECT ${joined(columns)} FROM ${identifier(table.name)}`;
}

/** Changes cells of the row with a key, only where they are still what was read. */
export function updateSql(
  table: LiveTable,
  key: readonly ByteString[],
  changes: readonly CellChange[],
): EncodedSql {
  const where = keyColumns(table).map(
    (column, n) => sql`${identifier(column.name)} = ${valueSql(column, key[n] ?? asBytes(''))}`,
  );
  const sets = changes.map(
    ({ column, after }) => sql`${identifier(column.name)} = ${valueSql(column, after)}`,
  );
  for (const column of table.columns) {
    if (column.touched && !changes.some(change => change.column === column))
      sets.push(sql`${identifier(column.name)} = ${identifier(column.name)}`);
  }
  const still = changes.map(({ column, before }) => sql`${digestSql(column)} = ${digestOf(before)}`);
  return sql`UPDATE ${identifier(table.name)} SET ${joined(sets)} WHERE ${joined([...where, ...still], sql` AND `)}`;
}

/** The opposite of `updateSql`: where the cells are still what they were changed to, restores what they were. */
export function restoreSql(
  table: LiveTable,
  key: readonly ByteString[],
  changes: readonly CellChange[],
): EncodedSql {
  const keyAfter = keyColumns(table).map(
    (column, n) => changes.find(change => change.column === column)?.after ?? key[n] ?? asBytes(''),
  );
  const back = changes.map(({ column, before, after }) => ({ column, before: after, after: before }));
  return updateSql(table, keyAfter, back);
}

function keyColumns({ key, columns }: LiveTable): LiveColumn[] {
  return key.flatMap(i => columns[i] ?? []);
}

/** Distinguishes values to the byte, whatever the column's collation takes for equal. */
function digestSql(column: Column): EncodedSql {
  const name = identifier(column.name);
  return writingOf(column) === 'bytes'
    ? sql`SHA2(${name}, 256)`
    : sql`SHA2(CONVERT(${name} USING utf8mb4), 256)`;
}

function digestOf(value: ByteString): EncodedSql {
  return literal(createHash('sha256').update(value, 'latin1').digest('hex'));
}

/** A value of a column as a literal. */
export function valueSql(column: Column, value: ByteString): EncodedSql {
  switch (writingOf(column)) {
    case 'number':
      return isNumber(Buffer.from(value, 'latin1')) ? encodedSql(value) : literalOfBytes(value);
    case 'text':
      return literalOfBytes(value);
    case 'bits':
    case 'bytes':
      return hexLiteral(value);
  }
}
