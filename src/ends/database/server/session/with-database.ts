import { shownDatabase } from '../../../../core/database/place.js';
import { toDatabaseError } from './errors.js';
import type { KeptSessions } from './kept-sessions.js';
import { openSession } from './open-session.js';
import type { DatabaseRoute, DatabaseSession } from './session.js';

/** Opens a database, does something with it, and closes it again or gives it back to those that are kept. */
export async function withDatabase<T>(
  route: DatabaseRoute,
  work: (session: DatabaseSession) => Promise<T>,
  kept?: KeptSessions,
): Promise<T> {
  const session = await (kept ? kept.take(route) : openSession(route));
  try {
    const result = await work(session);
    await (kept ? kept.giveBack(session) : session.close());
    return result;
  } catch (error) {
    kept?.drop(session);
    await session.close();
    throw toDatabaseError(error, `Asking the database ${shownDatabase(route.place)}`);
  }
}
