import { EndError, PartWayError, PorterError, UsageError } from '../core/errors.js';

const causes: Record<string, { cause: string; remedy: string; kind: 'end' | 'part-way' | 'usage' }> = {
  ENOENT: {
    cause: 'it is not there',
    remedy: 'Check the path; a relative one counts from the sheet',
    kind: 'end',
  },
  ENOTDIR: { cause: 'a part of the path is not a folder', remedy: 'Check the path', kind: 'end' },
  EISDIR: { cause: 'it is a folder, not a file', remedy: 'Name the file', kind: 'usage' },
  EACCES: {
    cause: 'permission is denied',
    remedy: 'Give this account the right to it, or use another account',
    kind: 'end',
  },
  EPERM: {
    cause: 'the system does not permit it',
    remedy: 'Give this account the right to it, or use another account',
    kind: 'end',
  },
  EROFS: {
    cause: 'it lies on a read-only file system',
    remedy: 'Choose another place, or mount it writable',
    kind: 'end',
  },
  ENOSPC: {
    cause: 'the disk is full',
    remedy: 'Make room and run the command again; it goes on where it was',
    kind: 'part-way',
  },
  EDQUOT: {
    cause: 'the quota is used up',
    remedy: 'Make room and run the command again; it goes on where it was',
    kind: 'part-way',
  },
  EMFILE: {
    cause: 'too many files are open',
    remedy: 'Raise the limit (ulimit -n) and run the command again',
    kind: 'part-way',
  },
  EXDEV: {
    cause: 'the two places lie on different file systems',
    remedy: 'Choose places on one file system',
    kind: 'usage',
  },
};

/** Turns what the file system said into an error that tells what was being done, on what, and what to try. */
export function asTrouble(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const { code, message } = error as NodeJS.ErrnoException;
  if (typeof code !== 'string') return error;
  const known = causes[code];
  const told = {
    doing,
    cause: known?.cause ?? message,
    remedy: known?.remedy ?? 'Run it again with --verbose for more',
  };
  if (known?.kind === 'end') return new EndError(told, { cause: error });
  if (known?.kind === 'usage') return new UsageError(told, { cause: error });
  return new PartWayError(told, { cause: error });
}

/** Whether an error, or what is behind it, says that there is no room left. */
export function isFull(error: unknown): boolean {
  const { code, cause } = error as { code?: unknown; cause?: unknown };
  return code === 'ENOSPC' || code === 'EDQUOT' || (cause instanceof Error && isFull(cause));
}

/** Runs some work and tells its trouble as above. */
export async function telling<T>(doing: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    throw asTrouble(error, doing);
  }
}
