import { setTimeout } from 'node:timers/promises';
import type { RateLimit } from '../move/rate-limit.js';

const bytesPerSecond = 1024 * 1024;

/** A rate at which a shared host has time for its visitors. */
export class GentleRateLimit implements RateLimit {
  readonly atOnce = 2;
  readonly streams = 1;
  /** When the bytes that were let pass will have passed, in milliseconds. */
  private until = 0;

  async take(bytes: number): Promise<void> {
    const now = performance.now();
    this.until = Math.max(this.until, now) + (bytes * 1000) / bytesPerSecond;
    if (this.until > now) await setTimeout(this.until - now);
  }
}
