import type { DatabaseConnection } from '../../ends/database/database-end.js';
import type { Move } from './open.js';

/** Moves whose account at the new database was seen to be able to do all that a load needs. */
const able = new WeakSet<Move>();

/** What the account at the new database may not do; it is tried out until nothing is missing, and not again after that. */
export async function missingAbilities(
  move: Move,
  connection: DatabaseConnection,
): Promise<readonly string[]> {
  if (able.has(move)) return [];
  const missing = await connection.missingAbilities();
  if (missing.length === 0) able.add(move);
  return missing;
}
