import { messageFromWire, messageToWire, rcodeWord } from '../../core/dns/message/message.js';
import { signMessage, type TsigKey, TsigVerifier } from '../../core/dns/message/tsig.js';
import { updateMessage } from '../../core/dns/message/update.js';
import type { DnsName } from '../../core/dns/records/name.js';
import type { SetChange } from '../../core/dns/zone/set-change.js';
import { exchangeOverTcp, newId } from './exchange.js';
import type { DnsServer } from './server.js';
import { nowSeconds } from './transfer.js';

/** What came of an update: `changed meanwhile` where a record set was not as it was seen, so that nothing was done. */
export type UpdateOutcome = 'done' | 'changed meanwhile';

/**
 * Sends one dynamic update (RFC 2136) over TCP, signed.
 * @throws an Error where the server refuses it, or nobody knows what came of it
 */
export async function sendUpdate(
  server: DnsServer,
  zone: DnsName,
  changes: readonly SetChange[],
  key: TsigKey | undefined,
  signal: AbortSignal,
): Promise<UpdateOutcome> {
  const wire = messageToWire(updateMessage(newId(), zone, changes));
  const signed = key && signMessage(wire, key, nowSeconds());
  for await (const answer of exchangeOverTcp(server, signed?.wire ?? wire, signal)) {
    const { id, flags, additionals } = messageFromWire(answer);
    if (id !== wire.readUInt16BE(0) || !flags.isResponse) continue;
    const word = rcodeWord(flags.rcode);
    const isSigned = additionals.some(({ type }) => type === 'TSIG');
    if (key && signed && (isSigned || word === 'NOERROR'))
      new TsigVerifier(key, signed.mac, nowSeconds).verify(answer);
    if (word === 'NOERROR') return 'done';
    if (['NXRRSET', 'YXRRSET', 'NXDOMAIN', 'YXDOMAIN'].includes(word)) return 'changed meanwhile';
    throw new Error(`it answers ${word}`);
  }
  throw new Error('it does not answer');
}
