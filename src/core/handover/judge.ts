import { createHash, timingSafeEqual } from 'node:crypto';
import type { Ticket } from './ticket.js';

/** Why somebody is not let in. */
export type Refused = 'wrong secret' | 'another collector' | 'late' | 'used';

/** After so many wrong secrets a ticket is dead. */
const mostWrong = 5;

/** Lets one collector in with a ticket, until the crate is whole. */
export class TicketJudge {
  /** Why the ticket is dead; undefined while it lives. */
  dead: 'used' | 'late' | 'too many wrong tries' | undefined;
  private readonly ticket: Pick<Ticket, 'secret' | 'ends'>;
  private collector: string | undefined;
  private wrong = 0;

  constructor(ticket: Pick<Ticket, 'secret' | 'ends'>) {
    this.ticket = ticket;
  }

  /**
   * Whether somebody is let in; gives why not.
   * @param collector by what the same one is known when it comes again
   */
  refuses(secret: string, collector: string, now = Date.now()): Refused | undefined {
    if (now >= this.ticket.ends) this.dead ??= 'late';
    if (this.dead === 'late') return 'late';
    if (this.dead === 'too many wrong tries') return 'wrong secret';
    if (!isSame(secret, this.ticket.secret)) {
      if (++this.wrong >= mostWrong) this.dead ??= 'too many wrong tries';
      return 'wrong secret';
    }
    this.collector ??= collector;
    if (this.collector !== collector) return this.dead === 'used' ? 'used' : 'another collector';
    return undefined;
  }

  /** The crate is whole at the collector. */
  done(): void {
    this.dead ??= 'used';
  }
}

/** Compares without showing by the time it takes how much is right. */
function isSame(a: string, b: string): boolean {
  const digest = (text: string) => createHash('sha256').update(text).digest();
  return timingSafeEqual(digest(a), digest(b));
}
