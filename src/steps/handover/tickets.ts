import { randomBytes } from 'node:crypto';
import { networkInterfaces } from 'node:os';
import type { Ticket } from '../../core/handover/ticket.js';
import { type OneTimeCertificate, oneTimeCertificate } from '../../ends/handover/certificate.js';

/** How an end waits for the other one. */
export interface Waiting {
  /** 0 for any that is free. */
  readonly port: number;
  /** The names or addresses by which the other end reaches this machine; none for its own addresses. */
  readonly at: readonly string[];
  readonly hours: number;
}

/** What is made for one hand-over. */
export interface NewTicket {
  readonly certificate: OneTimeCertificate;
  readonly secret: string;
  /** Milliseconds since 1970. */
  readonly ends: number;
  /** @param port at which this end waits */
  ticket(port: number): Ticket;
}

export async function newTicket({ at, hours }: Waiting): Promise<NewTicket> {
  const ends = Date.now() + hours * 3600 * 1000;
  const certificate = await oneTimeCertificate(ends);
  const secret = randomBytes(16).toString('hex');
  const { fingerprint } = certificate;
  return {
    certificate,
    secret,
    ends,
    ticket: port => ({ addresses: addressesOf(at, port), fingerprint, secret, ends }),
  };
}

function addressesOf(at: readonly string[], port: number): string[] {
  const hosts = at.length > 0 ? at : ownAddresses();
  return hosts.map(host => `${host.includes(':') && !host.startsWith('[') ? `[${host}]` : host}:${port}`);
}

/** The addresses of this machine that others may reach; its loopback address where it has no other. */
function ownAddresses(): string[] {
  const all = Object.values(networkInterfaces()).flatMap(list => list ?? []);
  const others = all.filter(({ internal, address }) => !internal && !address.startsWith('fe80:'));
  const sorted = others.sort((a, b) => (a.family < b.family ? -1 : 1));
  return sorted.length > 0 ? sorted.map(({ address }) => address) : ['127.0.0.1'];
}
