import { isDeepStrictEqual } from 'node:util';
import { openSession } from './open-session.js';
import type { DatabaseRoute, DatabaseSession } from './session.js';

/** So long a session is kept that nobody uses, in milliseconds; many servers end it soon after. */
const longest = 30_000;

interface Kept {
  readonly session: DatabaseSession;
  readonly since: number;
  /** Whether the server has forgotten what was set in it. */
  readonly isFresh: Promise<boolean>;
}

/** Sessions that were opened before and are used again, as good as new: opening one takes several round trips. */
export class KeptSessions {
  private kept: Kept[] = [];
  private readonly used = new Set<DatabaseSession>();
  private isOpen = false;

  /** Begins to keep sessions. Whoever says this must end it with `close`. */
  begin(): void {
    this.isOpen = true;
  }

  /** Opens a session, or takes one that was given back. @throws EndError when the server cannot be reached */
  async take(route: DatabaseRoute): Promise<DatabaseSession> {
    for (;;) {
      const at = this.kept.findIndex(({ session }) => isSame(session.route, route));
      const [found] = at < 0 ? [] : this.kept.splice(at, 1);
      if (!found) break;
      const isYoung = performance.now() - found.since < longest;
      if (isYoung && (await found.isFresh) && !found.session.isOver) {
        found.session.beginAgain();
        return this.using(found.session);
      }
      found.session.destroy();
    }
    return this.using(await openSession(route));
  }

  /** Takes back a session that nothing is under way on. */
  async giveBack(session: DatabaseSession): Promise<void> {
    this.used.delete(session);
    if (!this.isOpen || !session.canBeReset || session.isOver) return session.close();
    this.kept.push({ session, since: performance.now(), isFresh: session.reset() });
  }

  /** Forgets a session that is not to be used again. */
  drop(session: DatabaseSession): void {
    this.used.delete(session);
  }

  /** The numbers that the server gave to sessions of an account. */
  numbersOf(route: DatabaseRoute): number[] {
    return [...this.used, ...this.kept.map(({ session }) => session)]
      .filter(session => isSame(session.route, route))
      .map(({ number }) => number);
  }

  async close(): Promise<void> {
    this.isOpen = false;
    const { kept } = this;
    this.kept = [];
    await Promise.all(kept.map(({ session }) => session.close()));
  }

  private using(session: DatabaseSession): DatabaseSession {
    this.used.add(session);
    return session;
  }
}

function isSame(one: DatabaseRoute, other: DatabaseRoute): boolean {
  return one.through === other.through && isDeepStrictEqual(one.place, other.place);
}
