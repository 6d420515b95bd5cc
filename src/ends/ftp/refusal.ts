import type { FTPError } from 'basic-ftp';

/** Whether an error is a server's refusal. (What speaks the protocol is loaded only when a place is reached by it.) */
export function isFtpError(error: unknown): error is FTPError {
  return error instanceof Error && error.name === 'FTPError';
}
