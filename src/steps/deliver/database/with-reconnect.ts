import { BackOff } from '../../../ends/back-off.js';
import type { DatabaseEnd } from '../../../ends/database/database-end.js';
import type { StepRun } from '../../move/step.js';

/**
 * Does work with a database; when the connection is lost, waits with growing pauses and repeats it.
 * @param work must be safe to repeat; it may say that it got on, and then the pauses begin again
 */
export async function withReconnect<T>(
  run: StepRun,
  database: DatabaseEnd,
  work: (progressed: () => void) => Promise<T>,
): Promise<T> {
  const backOff = new BackOff(`the database ${database.name}`, 6);
  for (;;) {
    run.signal.throwIfAborted();
    try {
      return await work(() => backOff.reset());
    } catch (error) {
      run.signal.throwIfAborted();
      if (!database.isLost(error)) throw error;
      await backOff.wait(text => run.events({ type: 'message', text }), error);
    }
  }
}
