import { dnsClass, type Message, messageToWire } from '../../core/dns/message/message.js';
import { type DnsName, keyOf } from '../../core/dns/records/name.js';
import { negativeTtlOf } from '../../core/dns/zone/serial.js';
import { responseTo, type StandinDnsServer } from './dns-server.js';
import { DnsListener } from './listener.js';

/** What a stand-in resolver does wrong. */
export interface ResolverNature {
  /** Seconds that pass for it in one second: its cache runs out so much faster. */
  readonly speed?: number;
  /** Answers nothing but that it cannot. */
  readonly refuses?: boolean;
  /** Milliseconds before it answers. */
  readonly slow?: number;
  /** Keeps what it has at least so many seconds, whatever the zone says. */
  readonly leastTtl?: number;
}

interface Kept {
  readonly message: Message;
  /** When it was asked, in milliseconds, and for how many seconds it is kept. */
  readonly at: number;
  readonly ttl: number;
}

/** A resolver that simulates real ones: it asks stand-in servers, and keeps what they answer as long as the TTL says. */
export class StandinResolver {
  private readonly servers: readonly StandinDnsServer[];
  private readonly nature: ResolverNature;
  private readonly kept = new Map<string, Kept>();
  private readonly listener: DnsListener;

  constructor(servers: readonly StandinDnsServer[], nature: ResolverNature = {}) {
    this.servers = servers;
    this.nature = nature;
    this.listener = new DnsListener(async (_, message) => [messageToWire(await this.answer(message))]);
  }

  /** Starts to listen; gives its address with its port. */
  listen(): Promise<string> {
    return this.listener.listen();
  }

  close(): Promise<void> {
    return this.listener.close();
  }

  private async answer(message: Message): Promise<Message> {
    const [question] = message.questions;
    const { refuses, slow = 0, speed = 1, leastTtl = 0 } = this.nature;
    if (slow > 0) await new Promise(resolve => setTimeout(resolve, slow));
    if (refuses || !question) return responseTo(message, 5);
    const key = `${keyOf(question.name)} ${question.type}`;
    const passed = (kept: Kept) => Math.floor(((Date.now() - kept.at) / 1000) * speed);
    let kept = this.kept.get(key);
    if (!kept || passed(kept) >= kept.ttl) {
      const found = this.find(message, question.name);
      const soa = found.authorities.find(({ type }) => type === 'SOA');
      const ttl = found.answers[0] ? Math.min(...found.answers.map(one => one.ttl)) : negativeTtl(soa);
      kept = { message: found, at: Date.now(), ttl: Math.max(ttl, leastTtl) };
      this.kept.set(key, kept);
    }
    const left = Math.max(0, kept.ttl - passed(kept));
    const { flags } = kept.message;
    return {
      ...responseTo(message, flags.rcode),
      flags: { ...responseTo(message, flags.rcode).flags, recursionAvailable: true },
      answers: kept.message.answers.map(one => ({
        ...one,
        class: dnsClass.IN,
        ttl: Math.min(one.ttl, left),
      })),
      authorities: kept.message.authorities,
    };
  }

  private find(message: Message, name: DnsName): Message {
    const server = this.servers.find(one => one.zoneOf(name));
    return server ? server.lookUp(message, name, message.questions[0]!.type) : responseTo(message, 3);
  }
}

function negativeTtl(soa: Message['authorities'][number] | undefined): number {
  return soa ? Math.min(soa.ttl, negativeTtlOf(soa.data)) : 0;
}
