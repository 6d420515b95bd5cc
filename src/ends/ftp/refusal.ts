import type { Client, FTPError } from 'basic-ftp';
import { EndError } from '../../core/errors.js';

/** What the package says of a reply or a listing that it cannot read, or that is larger than it may be. */
const notUnderstood =
  /^(?:Can't parse|None of the available transfer|This library only supports|StringWriter: Maximum|PASV returned another host|FTP control response exceeded|Unexpected FTP response)/;

/** The error for a server whose replies cannot be read; undefined for every other one. To try again does not help. */
export function unreadableReply(error: unknown): EndError | undefined {
  if (!(error instanceof Error) || !notUnderstood.test(error.message)) return undefined;
  const cause = `the server's reply cannot be used (${shown(error.message)})`;
  const remedy = 'Ask the host what its FTP server does, or name the place by another protocol (sftp://)';
  return new EndError({ doing: 'Speaking FTP', kind: 'refused', cause, remedy }, { cause: error });
}

function shown(message: string): string {
  return message
    .split('. ')[0]!
    .replace(/[\x00-\x1f\x7f]+/g, ' ')
    .slice(0, 120);
}

/** Whether an error is a server's refusal. (What speaks the protocol is loaded only when a place is reached by it.) */
export function isFtpError(error: unknown): error is FTPError {
  return error instanceof Error && error.name === 'FTPError';
}

/** Goes on where a server only refuses a command. @throws anything else, also where it ends the connection */
export function throwUnlessRefused(error: unknown): void {
  if (!isFtpError(error) || error.code === 421) throw error;
}

/** Whether a server accepts a command. */
export async function accepts(client: Pick<Client, 'send'>, command: string): Promise<boolean> {
  try {
    await client.send(command);
    return true;
  } catch (error) {
    throwUnlessRefused(error);
    return false;
  }
}
