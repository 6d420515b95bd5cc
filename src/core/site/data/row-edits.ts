import { asBytes, type ByteString, bytesOf, textOf } from '../../bytes.js';
import type { Column } from '../../sql/column.js';
import { type EncodedSql, identifier, joined, literal, literalOfBytes, sql } from '../../sql/encoded-sql.js';
import type { Condition, DataEdit } from './data-edits.js';

/** What an edit made of one row. */
export interface RowChange {
  readonly edit: DataEdit;
  /** Undefined where the row is removed. */
  readonly put:
    | { readonly key: readonly string[]; readonly before: ByteString; readonly after: ByteString }
    | undefined;
}

/** Makes a site's edits on rows of a dump, as they would be made on those of a server. */
export class RowEdits {
  private readonly byTable = new Map<string, DataEdit[]>();

  constructor(edits: readonly DataEdit[]) {
    for (const edit of edits) {
      const list = this.byTable.get(edit.table) ?? [];
      this.byTable.set(edit.table, list);
      list.push(edit);
    }
  }

  concerns(table: string): boolean {
    return this.byTable.has(table);
  }

  /**
   * What becomes of a row.
   * @param columns those that the cells are of, in their order
   * @returns the cells after all edits, or undefined where the row is removed
   */
  apply(
    table: string,
    columns: readonly Pick<Column, 'name'>[],
    cells: readonly (Buffer | null)[],
    changed: (change: RowChange) => void = () => {},
  ): readonly (Buffer | null)[] | undefined {
    let row = cells;
    const at = (name: string) => columns.findIndex(column => column.name === name);
    const cell = (name: string) => row[at(name)] ?? null;
    for (const edit of this.byTable.get(table) ?? []) {
      if (!edit.where.every(condition => holds(condition, cell(condition.column)))) continue;
      const { change } = edit;
      if ('remove' in change) {
        changed({ edit, put: undefined });
        return undefined;
      }
      const given = cell(change.from ?? change.column);
      if (!given) continue;
      const before = bytesOf(given);
      const after = change.to(before);
      if (after === undefined || (after === before && change.from === undefined)) continue;
      changed({
        edit,
        put: { key: edit.key.map(name => cell(name)?.toString('latin1') ?? ''), before, after },
      });
      row = row.with(at(change.column), Buffer.from(after, 'latin1'));
    }
    return row;
  }
}

/** The statement that carries out one edit on one row; for a row that is removed, on all such rows. */
export function statementOf({ edit, put }: RowChange): EncodedSql {
  const table = identifier(edit.table);
  if (!put || 'remove' in edit.change) return sql`DELETE FROM ${table}${whereSql(edit.where)}`;
  const found = edit.key.map(
    (name, i) => sql`${identifier(name)} = ${literalOfBytes(asBytes(put.key[i] ?? ''))}`,
  );
  return sql`UPDATE ${table} SET ${identifier(edit.change.column)} = ${literalOfBytes(put.after)} WHERE ${joined(found, sql` AND `)}`;
}

/** The condition of a statement; empty where every row is meant. */
export function whereSql(conditions: readonly Condition[]): EncodedSql {
  return conditions.length === 0 ? sql`` : sql` WHERE ${joined(conditions.map(conditionSql), sql` AND `)}`;
}

function conditionSql(condition: Condition): EncodedSql {
  const column = identifier(condition.column);
  if ('is' in condition) return sql`${column} = ${literal(condition.is)}`;
  return sql`(${joined(
    condition.like.map(pattern => sql`${column} LIKE ${literal(pattern)}`),
    sql` OR `,
  )})`;
}

function holds(condition: Condition, cell: Buffer | null): boolean {
  if (!cell) return false;
  const text = textOf(bytesOf(cell));
  return 'is' in condition
    ? text === condition.is
    : condition.like.some(pattern => likePattern(pattern).test(text));
}

/** A pattern of SQL's LIKE as one of ours: `%` is any run, `_` any character, a backslash takes their meaning away. */
function likePattern(pattern: string): RegExp {
  const body = pattern.replace(/\\([%_\\])|[%_]|[.*+?^${}()|[\]\\]/g, (whole, plain?: string) => {
    if (plain !== undefined) return plain === '\\' ? '\\\\' : plain;
    if (whole === '%') return '.*';
    return whole === '_' ? '.' : `\\${whole}`;
  });
  return new RegExp(`^${body}$`, 's');
}
