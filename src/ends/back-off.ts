import { setTimeout } from 'node:timers/promises';
import { PartWayError } from '../core/errors.js';

/** How long is waited before each try to come back to a host, in seconds. */
const pauses = [1, 2, 4, 8, 15, 30, 60];

/** Waits with growing pauses before a host is tried again. */
export class BackOff {
  private readonly host: string;
  private readonly most: number;
  private tries = 0;
  private pausing: Promise<void> | undefined;

  /** @param most how many times it is tried again at most */
  constructor(host: string, most = pauses.length) {
    this.host = host;
    this.most = Math.min(most, pauses.length);
  }

  /**
   * Waits before the next try. Whoever comes while another waits waits with it: what is cut together is one loss.
   * @param report receives what is waited for
   * @throws PartWayError when there were enough tries
   */
  wait(report: (text: string) => void, cause?: unknown): Promise<void> {
    this.pausing ??= this.pause(report, cause).finally(() => {
      this.pausing = undefined;
    });
    return this.pausing;
  }

  private async pause(report: (text: string) => void, cause: unknown): Promise<void> {
    const pause = pauses[this.tries++];
    if (pause === undefined || this.tries > this.most) throw this.notBack(cause);
    report(
      `The connection to ${this.host} was lost; trying again in ${pause} s (${this.tries} of ${this.most})`,
    );
    await setTimeout(pause * 1000);
  }

  /** Begins again with short pauses: the host was there meanwhile. */
  reset(): void {
    this.tries = 0;
  }

  private notBack(cause: unknown): PartWayError {
    return new PartWayError(
      {
        doing: `Working with ${this.host}`,
        kind: 'connection lost',
        cause: 'the connection was lost and did not come back',
        remedy: 'Run the command again when the host answers; it resumes where it was',
      },
      { cause },
    );
  }
}
