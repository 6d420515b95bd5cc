import { createHash } from 'node:crypto';
import { asBytes, type ByteString, bytesOfText } from '../bytes.js';
import { type Column, quoteName, quoteText, writingOf } from '../sql/column.js';

/** A table whose rows are rewritten where they stand. */
export interface LiveTable {
  readonly name: string;
  readonly columns: readonly LiveColumn[];
  /** Indexes of the columns that tell one row from all others; none where the table has no such key. */
  readonly key: readonly number[];
}

interface LiveColumn extends Column {
  /** Whether the server sets it anew with every change of the row. */
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
): ByteString {
  const names = table.key.map(i => nameOf(table.columns[i]!));
  const values = table.key.map((i, n) => after && valueSql(table.columns[i]!, after[n]!));
  // The first comparison lets the server begin at the right place of the index.
  const ways = names.map((name, n) => {
    const same = names.slice(0, n).map((one, m) => `${one} = ${values[m]}`);
    return `(${[...same, `${name} > ${values[n]}`].join(' AND ')})`;
  });
  const where = after ? ` WHERE ${names[0]} >= ${values[0]} AND (${ways.join(' OR ')})` : '';
  return asBytes(`${selectSql(table)}${where} ORDER BY ${names.join(', ')} LIMIT ${most}`);
}

/** Reads all columns of all rows. */
export function selectSql(table: LiveTable): ByteString {
  return asBytes(`SELECT ${table.columns.map(nameOf).join(', ')} FROM ${bytesOfText(quoteName(table.name))}`);
}

/** Changes cells of the row with a key, only where they are still what was read. */
export function updateSql(
  table: LiveTable,
  key: readonly ByteString[],
  changes: readonly CellChange[],
): ByteString {
  const where = table.key.map(
    (i, n) => `${nameOf(table.columns[i]!)} = ${valueSql(table.columns[i]!, key[n]!)}`,
  );
  return setSql(table, changes, where);
}

/** The opposite of `updateSql`: where the cells are still what they were changed to, puts back what they were. */
export function putBackSql(
  table: LiveTable,
  key: readonly ByteString[],
  changes: readonly CellChange[],
): ByteString {
  const keyAfter = table.key.map(
    (i, n) => changes.find(({ column }) => column === table.columns[i])?.after ?? key[n]!,
  );
  const back = changes.map(({ column, before, after }) => ({ column, before: after, after: before }));
  return updateSql(table, keyAfter, back);
}

function setSql(table: LiveTable, changes: readonly CellChange[], where: readonly string[]): ByteString {
  const sets = changes.map(({ column, after }) => `${nameOf(column)} = ${valueSql(column, after)}`);
  for (const column of table.columns) {
    if (column.touched && !changes.some(change => change.column === column))
      sets.push(`${nameOf(column)} = ${nameOf(column)}`);
  }
  const still = changes.map(({ column, before }) => `${digestSql(column)} = '${digestOf(before)}'`);
  return asBytes(
    `UPDATE ${bytesOfText(quoteName(table.name))} SET ${sets.join(', ')} WHERE ${[...where, ...still].join(' AND ')}`,
  );
}

/** Tells values apart to the byte, whatever the column's collation takes for equal. */
function digestSql(column: Column): string {
  return writingOf(column) === 'bytes'
    ? `SHA2(${nameOf(column)}, 256)`
    : `SHA2(CONVERT(${nameOf(column)} USING utf8mb4), 256)`;
}

function digestOf(value: ByteString): string {
  return createHash('sha256').update(value, 'latin1').digest('hex');
}

function nameOf({ name }: Column): string {
  return bytesOfText(quoteName(name));
}

function valueSql(column: Column, value: ByteString): string {
  switch (writingOf(column)) {
    case 'number':
      return value;
    case 'text':
      return quoteText(value);
    case 'bits':
    case 'bytes':
      return `x'${Buffer.from(value, 'latin1').toString('hex')}'`;
  }
}
