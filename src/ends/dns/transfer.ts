import { messageFromWire, messageToWire, questionMessage } from '../../core/dns/message/message.js';
import { TransferReader } from '../../core/dns/message/transfer.js';
import { signMessage, type TsigKey, TsigVerifier } from '../../core/dns/message/tsig.js';
import type { DnsName } from '../../core/dns/records/name.js';
import type { DnsRecord } from '../../core/dns/records/record.js';
import { exchangeOverTcp, newId } from './exchange.js';
import type { DnsServer } from './server.js';

/** Seconds since 1970. */
export const nowSeconds = (): number => Math.floor(Date.now() / 1000);

/**
 * Transfers a zone (AXFR, RFC 5936), signed where there is a key.
 * @throws an Error where the server refuses, a signature is wrong, or the connection ends before the zone does
 */
export async function transferZone(
  server: DnsServer,
  zone: DnsName,
  key: TsigKey | undefined,
  signal: AbortSignal,
): Promise<DnsRecord[]> {
  const question = messageToWire(questionMessage(newId(), zone, 'AXFR'));
  const signed = key && signMessage(question, key, nowSeconds());
  const verifier = key && signed && new TsigVerifier(key, signed.mac, nowSeconds);
  const reader = new TransferReader(zone);
  for await (const wire of exchangeOverTcp(server, signed?.wire ?? question, signal)) {
    const message = messageFromWire(wire);
    if (message.id !== question.readUInt16BE(0) || !message.flags.isResponse) continue;
    // A refusal without a signature says more than that it is not signed.
    if (message.flags.rcode !== 0 && !message.additionals.some(({ type }) => type === 'TSIG'))
      reader.push(message);
    verifier?.verify(wire);
    if (reader.push(message)) break;
  }
  verifier?.end();
  return reader.records;
}
