import {
  EndError,
  type ErrorDetails,
  type ErrorKind,
  PartWayError,
  PorterError,
  UsageError,
} from '../core/errors.js';

type ErrorClass = new (details: ErrorDetails, options?: ErrorOptions) => PorterError;

const causes: Record<string, { cause: string; remedy: string; kind: ErrorKind; as: ErrorClass }> = {
  ENOENT: {
    cause: 'it is not there',
    remedy: 'Check the path; a relative one counts from the sheet',
    kind: 'not found',
    as: EndError,
  },
  ENOTDIR: {
    cause: 'a part of the path is not a folder',
    remedy: 'Check the path',
    kind: 'not found',
    as: EndError,
  },
  ENAMETOOLONG: {
    cause: 'the name is longer than a system takes',
    remedy: 'Check the path',
    kind: 'usage',
    as: UsageError,
  },
  EISDIR: { cause: 'it is a folder, not a file', remedy: 'Name the file', kind: 'usage', as: UsageError },
  EACCES: {
    cause: 'permission is denied',
    remedy: 'Give this account the right to it, or use another account',
    kind: 'permission',
    as: EndError,
  },
  EPERM: {
    cause: 'the system does not permit it',
    remedy: 'Give this account the right to it, or use another account',
    kind: 'permission',
    as: EndError,
  },
  EROFS: {
    cause: 'it is on a read-only file system',
    remedy: 'Choose another place, or mount it writable',
    kind: 'permission',
    as: EndError,
  },
  ENOSPC: {
    cause: 'the disk is full',
    remedy: 'Make room and run the command again; it resumes where it was',
    kind: 'no room',
    as: PartWayError,
  },
  EDQUOT: {
    cause: 'the quota is used up',
    remedy: 'Make room and run the command again; it resumes where it was',
    kind: 'no room',
    as: PartWayError,
  },
  EMFILE: {
    cause: 'too many files are open',
    remedy: 'Raise the limit (ulimit -n) and run the command again',
    kind: 'part-way',
    as: PartWayError,
  },
  EXDEV: {
    cause: 'the two places are on different file systems',
    remedy: 'Choose places on one file system',
    kind: 'usage',
    as: UsageError,
  },
};

/** Turns what the file system said into an error that says what was being done, on what, and what to try. */
export function toPorterError(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const { code, message } = error as NodeJS.ErrnoException;
  if (typeof code !== 'string') return error;
  const known = causes[code];
  if (!known) {
    const remedy = 'Run it again with --verbose for more';
    return new PartWayError({ doing, cause: message, remedy }, { cause: error });
  }
  const { cause, remedy, kind, as: Kind } = known;
  return new Kind({ doing, cause, remedy, kind }, { cause: error });
}

/** Whether an error, or what is behind it, says that there is no room left. */
export function isFull(error: unknown): boolean {
  const { code, cause } = error as { code?: unknown; cause?: unknown };
  return code === 'ENOSPC' || code === 'EDQUOT' || (cause instanceof Error && isFull(cause));
}

/** Runs some work and gives its trouble as above. */
export async function whileDoing<T>(doing: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    throw toPorterError(error, doing);
  }
}
