import { type EncodedSql, sql } from '../../../core/sql/encoded-sql.js';
import type { DatabaseSession, ServerSaid } from './session.js';

/** What a load does, tried out on a table of no importance, in order. */
const trials: readonly (readonly [ability: string, statement: EncodedSql])[] = [
  ['create tables', sql`CREATE TABLE able_porter_trial (id INT PRIMARY KEY, v VARCHAR(9))`],
  ['insert rows', sql`INSERT INTO able_porter_trial VALUES (1, 'a')`],
  ['read rows', sql`SELECT id FROM able_porter_trial`],
  ['change rows', sql`UPDATE able_porter_trial SET v = 'b'`],
  ['alter tables', sql`ALTER TABLE able_porter_trial ADD KEY v (v)`],
  ['lock tables', sql`LOCK TABLES able_porter_trial WRITE`],
  ['unlock tables', sql`UNLOCK TABLES`],
  ['delete rows', sql`DELETE FROM able_porter_trial`],
  [
    'rename tables',
    sql`RENAME TABLE able_porter_trial TO able_porter_trial2, able_porter_trial2 TO able_porter_trial`,
  ],
  ['drop tables', sql`DROP TABLE able_porter_trial`],
];

/**
 * Tries out what a load needs; what was tried on is gone afterwards.
 * @returns what the user may not do, in words
 */
export async function missingAbilities(session: DatabaseSession): Promise<string[]> {
  const missing: string[] = [];
  await session.run(sql`DROP TABLE IF EXISTS able_porter_trial`).catch(() => {});
  for (const [ability, statement] of trials) {
    try {
      await session.run(statement);
    } catch (error) {
      if (!isDenied(error as ServerSaid)) throw error;
      missing.push(ability);
      // Without a table there is nothing to try the others on.
      if (ability === 'create tables') break;
    }
  }
  return missing;
}

function isDenied({ errno }: ServerSaid): boolean {
  return [1044, 1142, 1143, 1227, 1370].includes(errno ?? 0);
}
