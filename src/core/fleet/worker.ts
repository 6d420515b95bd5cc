/**
 * The variables by which a process knows that it works for a fleet: it ends when its standard input does, since whoever began
 * it is gone then; the number of the fence with which it is let in to a move; and where the move folder is kept.
 */
export const workerVariable = 'ABLE_PORTER_WORKER';
export const fenceVariable = 'ABLE_PORTER_FENCE';
export const keepVariable = 'ABLE_PORTER_KEEP';
