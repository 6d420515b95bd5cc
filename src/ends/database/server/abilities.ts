import { trialTables } from '../../../core/database/reserved-names.js';
import { type EncodedSql, identifier, sql } from '../../../core/sql/encoded-sql.js';
import type { ServerSaid } from './session/errors.js';
import type { DatabaseSession } from './session/session.js';

const [trial, renamed] = [identifier(trialTables[0]), identifier(trialTables[1])];

/** What a load does, tried out on a table of no importance, in order. */
const trials: readonly (readonly [ability: string, statement: EncodedSql])[] = [
  ['create tables', sql`CREATE TABLE ${trial} (id INT PRIMARY KEY, v VARCHAR(9))`],
  ['insert rows', sql`INSERT INTO ${trial} VALUES (1, 'a')`],
  ['read rows', sql`SELECT id FROM ${trial}`],
  ['change rows', sql`UPDATE ${trial} SET v = 'b'`],
  ['alter tables', sql`ALTER TABLE ${trial} ADD KEY v (v)`],
  ['lock tables', sql`LOCK TABLES ${trial} WRITE`],
  ['unlock tables', sql`UNLOCK TABLES`],
  ['delete rows', sql`DELETE FROM ${trial}`],
  ['rename tables', sql`RENAME TABLE ${trial} TO ${renamed}, ${renamed} TO ${trial}`],
  ['drop tables', sql`DROP TABLE ${trial}`],
];

/**
 * Tries out what a load needs; what was tried on is gone afterwards.
 * @returns what the user may not do, in words
 */
export async function missingAbilities(session: DatabaseSession): Promise<string[]> {
  const missing: string[] = [];
  const before = session.run(sql`DROP TABLE IF EXISTS ${trial}`).catch(() => {});
  for (let left = trials; left.length > 0; ) {
    const { failed } = await session.together(left.map(([, sql]) => ({ sql, take: () => {} })));
    await before;
    if (!failed) break;
    if (!isDenied(failed.error as ServerSaid)) throw failed.error;
    const [ability] = left[failed.at]!;
    missing.push(ability);
    // Without a table there is nothing to try the others on.
    if (ability === 'create tables') break;
    left = left.slice(failed.at + 1);
  }
  return missing;
}

function isDenied({ errno }: ServerSaid): boolean {
  return [1044, 1142, 1143, 1227, 1370].includes(errno ?? 0);
}
