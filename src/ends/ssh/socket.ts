import { connect, type Socket } from 'node:net';
import type { SshLogin } from './login.js';

/**
 * Begins with the line to a host; undefined where it is reached through another. Nothing of what comes is read before
 * somebody listens, and who does must look whether it has failed already (`errored`).
 */
export function openSocket({ host, port, through }: SshLogin): Socket | undefined {
  if (through) return undefined;
  const line = connect({ host, port, noDelay: true });
  line.pause();
  line.on('error', () => {});
  return line;
}
