import { getServers } from 'node:dns';
import { type Message, questionMessage, rcodeWord } from '../../core/dns/message/message.js';
import { type DnsName, nameOfHost } from '../../core/dns/records/name.js';
import type { DnsRecord } from '../../core/dns/records/record.js';
import { ask, newId } from './exchange.js';
import { type DnsServer, serverOf } from './server.js';

/** Asks resolvers for records, with their TTLs (RFC 1035). */
export class Resolver {
  readonly servers: readonly DnsServer[];

  /** @param servers IP addresses, with `:port` where it is not 53; this machine's own where none are given */
  constructor(servers: readonly string[] = []) {
    this.servers = (servers.length > 0 ? servers : getServers()).map(serverOf);
  }

  /**
   * What the first resolver answers that answers at all.
   * @throws an Error when no resolver answers, or answers with a failure
   */
  async ask(name: DnsName, type: string, signal: AbortSignal): Promise<Message> {
    let last: unknown = new Error('this machine has no resolver');
    for (const server of this.servers) {
      signal.throwIfAborted();
      try {
        return await askFor(server, name, type, signal, { recursive: true });
      } catch (error) {
        last = error;
      }
    }
    throw last;
  }

  /**
   * The records that answer a question, aliases on the way among them; none where the name or the type is not there.
   * @throws an Error as `ask` does
   */
  async records(host: string, type: string, signal: AbortSignal): Promise<readonly DnsRecord[]> {
    return (await this.ask(nameOfHost(host), type, signal)).answers;
  }
}

/**
 * Asks one server one question.
 * @throws an Error where it does not answer, or answers with a failure
 */
export async function askFor(
  server: DnsServer,
  name: DnsName,
  type: string,
  signal: AbortSignal,
  { recursive = false } = {},
): Promise<Message> {
  const answer = await ask(server, questionMessage(newId(), name, type, { recursive }), signal);
  const word = rcodeWord(answer.flags.rcode);
  if (word === 'NOERROR' || word === 'NXDOMAIN') return answer;
  throw new Error(`the DNS server answers ${word}`);
}
