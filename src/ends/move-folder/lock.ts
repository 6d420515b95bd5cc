import { readFileSync } from 'node:fs';
import { link, open, readFile, rename, rm } from 'node:fs/promises';
import { hostname } from 'node:os';
import { isDeepStrictEqual } from 'node:util';
import { PartWayError, UsageError } from '../../core/errors.js';
import { toPorterError } from '../system-errors.js';

/** Who works on something. */
interface Holder {
  readonly pid: number;
  readonly host: string;
  /** When that process began, as its system counts; empty where that is not known. Numbers of processes are used again. */
  readonly began: string;
  /** ISO 8601, UTC. */
  readonly since: string;
  /** The number of its fence, where it works for a fleet: the next that is let in has a larger one. */
  readonly fence?: number | undefined;
}

/**
 * Keeps other runs from working on the same thing until it is released. What a killed run left is recognised. One that works
 * for a fleet is let in with the number of a fence, and takes the lock from one with a smaller number, which may be on another
 * machine and only have seemed dead: that one can do nothing more.
 */
export class MoveLock {
  private readonly file: string;
  private readonly own: Holder;

  private constructor(file: string, own: Holder) {
    this.file = file;
    this.own = own;
  }

  /**
   * @param file in the move folder
   * @param what is locked, for messages
   * @throws UsageError where another run has it
   */
  static async take(file: string, what = 'this move', fence?: number): Promise<MoveLock> {
    const own: Holder = {
      pid: process.pid,
      host: hostname(),
      began: beganAt(process.pid),
      since: new Date().toISOString(),
      ...(fence === undefined ? {} : { fence }),
    };
    for (let tries = 0; ; tries++) {
      try {
        const handle = await open(file, 'wx', 0o600);
        try {
          await handle.writeFile(`${JSON.stringify(own)}\n`);
        } finally {
          await handle.close();
        }
        return new MoveLock(file, own);
      } catch (error) {
        if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw toPorterError(error, `Writing ${file}`);
      }
      const holder = await holderIn(file);
      if (holder && !isGone(holder) && !isFencedOff(holder, fence)) throw taken(file, holder, what);
      // A second look: it may be being written just now.
      if (!holder && tries === 0) await new Promise(resolve => setTimeout(resolve, 200));
      else await removeStale(file, holder);
    }
  }

  async release(): Promise<void> {
    if (this.own.fence === undefined || isDeepStrictEqual(await holderIn(this.file), this.own))
      await rm(this.file, { force: true });
  }

  /** Where one with a fence has lost the lock to another: nothing more may be done. @throws PartWayError then */
  async assertHeld(): Promise<void> {
    if (this.own.fence === undefined || isDeepStrictEqual(await holderIn(this.file), this.own)) return;
    throw new PartWayError({
      doing: 'Working on this move',
      cause: 'another worker has taken it over, since this one did not answer for a while',
      remedy: 'Nothing; the other one resumes it',
    });
  }
}

/** Removes what a run left that has ended, unless another run has just done so and begun. */
async function removeStale(file: string, seen: Holder | undefined): Promise<void> {
  const aside = `${file}.${process.pid}`;
  try {
    await rename(file, aside);
  } catch {
    // Another run was faster.
    return;
  }
  const moved = await holderIn(aside);
  // `link` does not replace a lock that is newer still.
  if (moved && !isDeepStrictEqual(moved, seen) && !isGone(moved)) await link(aside, file).catch(() => {});
  await rm(aside, { force: true });
}

async function holderIn(file: string): Promise<Holder | undefined> {
  try {
    const holder = JSON.parse(await readFile(file, 'utf8')) as Partial<Holder>;
    return typeof holder.pid === 'number' && typeof holder.host === 'string' ? (holder as Holder) : undefined;
  } catch {
    return undefined;
  }
}

/** Whether one that works for a fleet has to give way. What a person began is left alone. */
function isFencedOff(holder: Holder, fence: number | undefined): boolean {
  return fence !== undefined && holder.fence !== undefined && holder.fence < fence;
}

/** Whether a process has ended; that of another machine nobody can know. */
function isGone({ pid, host, began }: Holder): boolean {
  if (host !== hostname()) return false;
  try {
    process.kill(pid, 0);
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'ESRCH';
  }
  const now = beganAt(pid);
  return began !== '' && now !== '' && began !== now;
}

/** When a process began, in ticks of its system (see proc(5)); empty where the system does not say. */
function beganAt(pid: number): string {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'latin1');
    return stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19] ?? '';
  } catch {
    return '';
  }
}

function taken(file: string, { pid, host, since }: Holder, what: string): UsageError {
  return new UsageError({
    doing: `Beginning to work on ${what}`,
    cause: `another run works on it since ${since.slice(0, 16).replace('T', ' ')} UTC (process ${pid} on ${host})`,
    remedy: `Wait until it has ended. If it does not run any more, remove ${file}`,
  });
}
