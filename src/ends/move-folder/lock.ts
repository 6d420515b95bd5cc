import { readFileSync } from 'node:fs';
import { link, open, readFile, rename, rm } from 'node:fs/promises';
import { hostname } from 'node:os';
import { isDeepStrictEqual } from 'node:util';
import { UsageError } from '../../core/errors.js';
import { toPorterError } from '../system-errors.js';

/** Who works on a move. */
interface Holder {
  readonly pid: number;
  readonly host: string;
  /** When that process began, as its system counts; empty where that is not known. Numbers of processes are used again. */
  readonly began: string;
  /** ISO 8601, UTC. */
  readonly since: string;
}

/** Keeps other runs from working on the same move until it is released. What a killed run left is recognised. */
export class MoveLock {
  private readonly file: string;

  private constructor(file: string) {
    this.file = file;
  }

  /** @param file in the move folder @throws UsageError where another run has it */
  static async take(file: string): Promise<MoveLock> {
    const own: Holder = {
      pid: process.pid,
      host: hostname(),
      began: beganAt(process.pid),
      since: new Date().toISOString(),
    };
    for (let tries = 0; ; tries++) {
      try {
        const handle = await open(file, 'wx', 0o600);
        try {
          await handle.writeFile(`${JSON.stringify(own)}\n`);
        } finally {
          await handle.close();
        }
        return new MoveLock(file);
      } catch (error) {
        if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw toPorterError(error, `Writing ${file}`);
      }
      const holder = await holderIn(file);
      if (holder && !isGone(holder)) throw taken(file, holder);
      // A second look: it may be being written just now.
      if (!holder && tries === 0) await new Promise(resolve => setTimeout(resolve, 200));
      else await removeStale(file, holder);
    }
  }

  async release(): Promise<void> {
    await rm(this.file, { force: true });
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

function taken(file: string, { pid, host, since }: Holder): UsageError {
  return new UsageError({
    doing: 'Beginning to work on this move',
    cause: `another run works on it since ${since.slice(0, 16).replace('T', ' ')} UTC (process ${pid} on ${host})`,
    remedy: `Wait until it has ended. If it does not run any more, remove ${file}`,
  });
}
