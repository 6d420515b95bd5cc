import { fenceVariable, keepVariable } from '../../core/fleet/worker.js';
import type { Move } from '../move/open.js';
import { storeOf } from '../store/stores.js';
import { KeptFolder } from './kept-folder.js';

/** Where the move folder of a site is kept, as a worker tells the process of the site. It holds no secret. */
export interface KeepWish {
  readonly site: string;
  readonly store: NonNullable<Move['sheet']['crate']>['store'];
  readonly recipient: string;
}

/** How often one that works for a fleet looks whether it still has the move, in milliseconds. */
const lookEvery = 1000;

/**
 * Locks a move for a worker of a fleet: with a fence, so that one that only seemed dead does nothing more once another has taken
 * the move over.
 * @param lost is called as soon as that is seen
 */
export async function lockForFleet(
  move: Move,
  environment: Readonly<Record<string, string | undefined>>,
  lost: (error: unknown) => void,
): Promise<{ release(): Promise<void> }> {
  const { folder } = move;
  const fence = Number(environment[fenceVariable]);
  const lock = await folder.lock(fence);
  const looking = setInterval(() => lock.assertHeld().catch(lost), lookEvery);
  const kept = await keptOf(move, environment[keepVariable], fence);
  if (kept) folder.keepBeforeDeeds(() => kept.keep());
  return {
    release: async () => {
      clearInterval(looking);
      await kept?.keep().finally(() => kept.close());
      await lock.release();
    },
  };
}

async function keptOf(move: Move, wish: string | undefined, fence: number) {
  if (wish === undefined) return undefined;
  const { site, store: place, recipient } = JSON.parse(wish) as KeepWish;
  const { accounts, folder } = move;
  const store = await storeOf({ accounts, crate: { store: place }, secrets: folder.at('.env') });
  const kept = new KeptFolder({ store, site, fence, folder: folder.folder }, recipient);
  return {
    keep: () => kept.keep(AbortSignal.timeout(mostSeconds * 1000)),
    close: () => store.close(),
  };
}

/** Nothing is waited for any longer before a deed. */
const mostSeconds = 600;
