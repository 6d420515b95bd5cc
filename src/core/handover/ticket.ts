import { createHash } from 'node:crypto';
import { UsageError } from '../errors.js';

/** What lets one collector fetch one crate. */
export interface Ticket {
  /** Where the one that waits can be reached: `host:port`, tried in this order. */
  readonly addresses: readonly string[];
  /** SHA-256 of the certificate that it shows, in hex. */
  readonly fingerprint: string;
  /** Known to the two ends alone; 16 bytes in hex. */
  readonly secret: string;
  /** It is good for nothing after this: milliseconds since 1970. */
  readonly ends: number;
}

const mark = 'porter';
const address = /^(?:\[[\da-f:.]+\]|[\w.-]+):\d{1,5}$/i;

/** A ticket as a text without spaces that can be pasted; the last part shows whether all of it was. */
export function writeTicket({ addresses, fingerprint, secret, ends }: Ticket): string {
  const body = Buffer.from([ends, secret, fingerprint, ...addresses].join(' ')).toString('base64url');
  return `${mark}-${body}.${sumOf(body)}`;
}

/** @throws UsageError for what is no ticket, or was not copied as a whole */
export function readTicket(text: string): Ticket {
  const [, body = '', sum] = /^porter-([\w-]+)\.([\da-f]{8})$/.exec(text.trim()) ?? [];
  const written = Buffer.from(body, 'base64url').toString();
  const [ends, secret, fingerprint, ...addresses] = written.split(' ');
  const isOne =
    /^\d+$/.test(ends ?? '') &&
    /^[\da-f]{32}$/.test(secret ?? '') &&
    /^[\da-f]{64}$/.test(fingerprint ?? '') &&
    addresses.length > 0 &&
    addresses.every(one => address.test(one));
  if (sum === undefined || sumOf(body) !== sum || !isOne) {
    throw new UsageError({
      doing: 'Reading the ticket',
      cause: 'it is none, or a part of it is missing',
      remedy: 'Copy the whole ticket as it was shown, from "porter-" on',
    });
  }
  return { addresses, fingerprint: fingerprint!, secret: secret!, ends: Number(ends) };
}

function sumOf(text: string): string {
  return createHash('sha256').update(text).digest('hex').slice(0, 8);
}
