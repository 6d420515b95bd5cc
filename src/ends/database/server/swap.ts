import type { RenamedConstraint } from '../../../core/database/staging.js';
import { encodedSql, identifier, joined, sql } from '../../../core/sql/encoded-sql.js';
import type { ForeignKey, Rename } from '../database-end.js';
import type { ServerSaid } from './session/errors.js';
import type { DatabaseSession } from './session/session.js';

/** So long a swap waits for readers that are under way, in seconds; behind it everybody else waits. */
const patience = 3;
const tries = 20;
const pause = 1500;

/**
 * Renames tables, all or none (https://mariadb.com/kb/en/rename-table/). Where somebody reads one of them for long, it lets
 * others go first and tries again.
 */
export async function renameAll(session: DatabaseSession, renames: readonly Rename[]): Promise<void> {
  if (renames.length === 0) return;
  const list = joined(renames.map(({ from, to }) => sql`${identifier(from)} TO ${identifier(to)}`));
  for (let left = tries; ; left--) {
    try {
      await session.runAll(
        sql`SET SESSION foreign_key_checks = 0, lock_wait_timeout = ${patience}`,
        sql`RENAME TABLE ${list}`,
      );
      return;
    } catch (error) {
      if ((error as ServerSaid).errno !== 1205 || left === 0) throw error;
      await new Promise(resolve => setTimeout(resolve, pause));
    }
  }
}

/** The foreign keys of the session's database, and those of others that lead to it. */
export async function foreignKeysOf(session: DatabaseSession): Promise<ForeignKey[]> {
  const rows = await session.rows(
    sql`SELECT CONSTRAINT_NAME, TABLE_NAME, REFERENCED_TABLE_NAME, CONSTRAINT_SCHEMA = DATABASE()
     FROM information_schema.REFERENTIAL_CONSTRAINTS
     WHERE CONSTRAINT_SCHEMA = DATABASE() OR UNIQUE_CONSTRAINT_SCHEMA = DATABASE()`,
  );
  return rows.map(([name, table, references, own]) => ({
    name: name!,
    table: table!,
    references: references!,
    isElsewhere: own !== '1',
  }));
}

/** What a foreign key says after its name, as the server writes it; undefined where the table has none of that name. */
export async function definitionOf(
  session: DatabaseSession,
  table: string,
  name: string,
): Promise<string | undefined> {
  let create = '';
  await session.each(sql`SHOW CREATE TABLE ${identifier(table)}`, cells => {
    create = cells[1]?.toString('latin1') ?? '';
  });
  const quoted = identifier(name);
  const line = create.split('\n').find(one => one.trimStart().startsWith(`CONSTRAINT ${quoted} `));
  return line?.trim().slice(`CONSTRAINT ${quoted} `.length).replace(/,$/, '');
}

/** Gives a foreign key another name. Safe to repeat. */
export async function renameConstraint(
  session: DatabaseSession,
  { table, name, now, definition }: RenamedConstraint,
): Promise<void> {
  if ((await definitionOf(session, table, now)) === undefined) return;
  await session.runAll(
    sql`SET SESSION foreign_key_checks = 0`,
    sql`ALTER TABLE ${identifier(table)} DROP FOREIGN KEY ${identifier(now)}, ADD CONSTRAINT ${identifier(name)} ${encodedSql(definition)}`,
  );
}

/** What the server computes of the rows of tables; where it computes nothing, a table is missing here. */
export async function checksumsOf(
  session: DatabaseSession,
  tables: readonly string[],
): Promise<Map<string, string>> {
  const sums = new Map<string, string>();
  if (tables.length === 0) return sums;
  const rows = await session.rows(sql`CHECKSUM TABLE ${joined(tables.map(identifier))}`);
  for (const [i, [, sum]] of rows.entries()) if (sum !== null && sum !== undefined) sums.set(tables[i]!, sum);
  return sums;
}

/** The connections of others to the database with the same account, without those that wait for long. */
export async function othersOf(session: DatabaseSession): Promise<number[]> {
  const rows = await session.rows(
    sql`SELECT ID FROM information_schema.PROCESSLIST WHERE ID <> CONNECTION_ID() AND DB = DATABASE() AND NOT (COMMAND = 'Sleep' AND TIME > 3)`,
  );
  return rows.map(([id]) => Number(id));
}
