import { UsageError } from '../../core/errors.js';
import { ledgerOf } from './ledger.js';
import type { Move } from './open.js';

/** @throws UsageError where the move is closed: there is nothing left to deliver or to undo */
export async function refuseClosed(move: Pick<Move, 'folder' | 'sheet'>, doing: string): Promise<void> {
  if ((await ledgerOf(move)).life !== 'closed') return;
  throw new UsageError({
    doing,
    cause: `the move "${move.sheet.name}" is closed: "tidy" has removed what it kept, and the new site is on its own`,
    remedy: 'To move the site once more, begin a new move in a folder of its own',
  });
}
