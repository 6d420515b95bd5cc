import type { AddressInfo } from 'node:net';
import { connect, createServer, type TLSSocket } from 'node:tls';
import { UsageError } from '../../core/errors.js';
import { parseFingerprint } from '../../core/fingerprint.js';
import type { Ticket } from '../../core/handover/ticket.js';
import { fingerprintOf } from '../trust/certificate.js';
import type { OneTimeCertificate } from './certificate.js';

/** Waits for the other end. @param meet is given each connection @returns the port, and what ends the waiting @throws UsageError where the port is taken */
export async function listen(
  { key, cert }: OneTimeCertificate,
  port: number,
  meet: (socket: TLSSocket) => void,
): Promise<{ port: number; close(): Promise<void> }> {
  const server = createServer({ key, cert }, meet);
  server.on('tlsClientError', () => {});
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, resolve)).catch(
    (cause: NodeJS.ErrnoException) => {
      throw new UsageError(
        {
          doing: `Waiting at port ${port}`,
          cause: cause.code === 'EADDRINUSE' ? 'another program has it' : cause.message,
          remedy: 'Name another with --port, or leave it out',
        },
        { cause },
      );
    },
  );
  return {
    port: (server.address() as AddressInfo).port,
    close: () => new Promise(resolve => server.close(() => resolve())),
  };
}

/** Opens a connection to whoever gave the ticket out. @throws an Error where none of its addresses answers with its certificate */
export async function connectTo({ addresses, fingerprint }: Ticket, signal: AbortSignal): Promise<TLSSocket> {
  let last: Error | undefined;
  for (const address of addresses) {
    signal.throwIfAborted();
    try {
      return await connectAt(address, fingerprint, signal);
    } catch (error) {
      last = error as Error;
      if (last instanceof WrongCertificate) throw last;
    }
  }
  throw last ?? new Error('the ticket names no address');
}

/** Somebody else answers. */
export class WrongCertificate extends Error {}

/** So long a connection may take, in milliseconds. */
const connecting = 10_000;

function connectAt(address: string, fingerprint: string, signal: AbortSignal): Promise<TLSSocket> {
  const { hostname, port } = new URL(`https://${address}`);
  const host = hostname.replace(/^\[|\]$/g, '');
  return new Promise((resolve, reject) => {
    const socket = connect({ host, port: Number(port || 443), rejectUnauthorized: false });
    const abort = () => socket.destroy(new Error('interrupted'));
    signal.addEventListener('abort', abort, { once: true });
    socket.setTimeout(connecting, () => socket.destroy(new Error('no answer in ten seconds')));
    socket.once('error', reject);
    socket.once('close', () => signal.removeEventListener('abort', abort));
    socket.once('secureConnect', () => {
      socket.setTimeout(0);
      if (fingerprintOf(socket) === parseFingerprint(fingerprint))
        resolve(socket.off('error', reject).on('error', () => {}));
      else socket.destroy(new WrongCertificate(`${address} shows another certificate than the ticket names`));
    });
  });
}
