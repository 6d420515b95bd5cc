import pRetry from 'p-retry';
import { sql } from '../../../core/sql/encoded-sql.js';
import type { ServerSaid } from './session/errors.js';
import type { DatabaseSession } from './session/session.js';

/** How often a transaction is repeated that meets a deadlock, or a lock that others hold too long. */
const retries = 4;

/** Does work in a transaction, and repeats it from its beginning where others hold a lock. */
export function whileLocked<T>(session: DatabaseSession, work: () => Promise<T>): Promise<T> {
  return pRetry(work, {
    retries,
    factor: 1.5,
    minTimeout: 200,
    shouldRetry: ({ error }) => isLocked(error),
    onFailedAttempt: async ({ error }) => {
      if (isLocked(error)) await session.run(sql`ROLLBACK`);
    },
  });
}

/** Whether an error is a deadlock, or a lock that was waited for too long: it may go well when it is done again. */
export function isLocked(error: unknown): boolean {
  return /^ER_LOCK_(?:DEADLOCK|WAIT_TIMEOUT)$/.test((error as ServerSaid).code ?? '');
}
