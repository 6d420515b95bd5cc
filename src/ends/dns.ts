import { randomInt } from 'node:crypto';
import { createSocket } from 'node:dgram';
import { getServers } from 'node:dns';
import { connect } from 'node:net';
import {
  type Answer,
  decode,
  encode,
  type Packet,
  RECURSION_DESIRED,
  streamDecode,
  streamEncode,
} from 'dns-packet';

/** A DNS record as a resolver gives it. */
export interface DnsRecord {
  readonly name: string;
  readonly type: DnsType;
  /** Seconds. */
  readonly ttl: number;
  /** As a zone file writes it. */
  readonly value: string;
}

export type DnsType = 'A' | 'AAAA' | 'CNAME' | 'NS' | 'MX' | 'TXT' | 'CAA' | 'SOA';

const patience = 2500;
const tries = 2;

/** Asks resolvers for records, with their TTLs (RFC 1035). */
export class Resolver {
  private readonly servers: readonly { readonly host: string; readonly port: number }[];

  /** @param servers IP addresses, with `:port` where it is not 53; this machine's own where none are given */
  constructor(servers: readonly string[] = []) {
    this.servers = (servers.length > 0 ? servers : getServers()).map(addressOf);
  }

  /**
   * The records of a name; none where the name or the type is not there.
   * @throws an Error when no resolver answers, or answers with a failure
   */
  async records(name: string, type: DnsType, signal: AbortSignal): Promise<DnsRecord[]> {
    let last: unknown = new Error('this machine has no resolver');
    for (const server of this.servers) {
      for (let attempt = 0; attempt < tries; attempt++) {
        signal.throwIfAborted();
        try {
          return recordsIn(await this.ask(server, name, type, signal));
        } catch (error) {
          last = error;
        }
      }
    }
    throw last;
  }

  private async ask(
    server: { host: string; port: number },
    name: string,
    type: DnsType,
    signal: AbortSignal,
  ): Promise<Packet> {
    const question: Packet = {
      type: 'query',
      id: randomInt(0xffff),
      flags: RECURSION_DESIRED,
      questions: [{ type, name }],
    };
    const answer = await overUdp(server, question, signal);
    // What does not fit a datagram is asked for again over a connection.
    return (answer as { flag_tc?: boolean }).flag_tc ? overTcp(server, question, signal) : answer;
  }
}

function overUdp(
  { host, port }: { host: string; port: number },
  question: Packet,
  signal: AbortSignal,
): Promise<Packet> {
  return new Promise((resolve, reject) => {
    const socket = createSocket(host.includes(':') ? 'udp6' : 'udp4');
    const end = (work: () => void) => {
      clearTimeout(timer);
      signal.removeEventListener('abort', abort);
      socket.close();
      work();
    };
    const timer = setTimeout(() => end(() => reject(noAnswer(host))), patience);
    const abort = () => end(() => reject(signal.reason));
    signal.addEventListener('abort', abort, { once: true });
    socket.on('error', error => end(() => reject(error)));
    socket.on('message', message => {
      try {
        const packet = decode(message);
        if (packet.id === question.id && packet.type === 'response') end(() => resolve(packet));
      } catch {
        // Not an answer to what was asked; the right one may still come.
      }
    });
    socket.connect(port, host, () => socket.send(encode(question)));
  });
}

function overTcp(
  { host, port }: { host: string; port: number },
  question: Packet,
  signal: AbortSignal,
): Promise<Packet> {
  return new Promise((resolve, reject) => {
    const chunks: Buffer[] = [];
    const socket = connect({ host, port, signal }, () => socket.write(streamEncode(question)));
    socket.setTimeout(patience, () => socket.destroy(noAnswer(host)));
    socket.on('error', reject);
    socket.on('data', chunk => {
      chunks.push(chunk);
      const all = Buffer.concat(chunks);
      if (all.length < 2 || all.length < 2 + all.readUInt16BE(0)) return;
      const packet = streamDecode(all);
      socket.end();
      if (packet) resolve(packet);
      else reject(new Error(`the resolver ${host} gave an answer that cannot be read`));
    });
  });
}

function noAnswer(host: string): Error {
  return new Error(`the resolver ${host} does not answer`);
}

function recordsIn(packet: Packet): DnsRecord[] {
  const { rcode } = packet as { rcode?: string };
  if (rcode === 'NXDOMAIN') return [];
  if (rcode !== undefined && rcode !== 'NOERROR') throw new Error(`the resolver answers ${rcode}`);
  return (packet.answers ?? []).flatMap(answer => {
    const value = textOfRecord(answer);
    return value === undefined
      ? []
      : [
          {
            name: answer.name,
            type: answer.type as DnsType,
            ttl: (answer as { ttl?: number }).ttl ?? 0,
            value,
          },
        ];
  });
}

function textOfRecord(answer: Answer): string | undefined {
  switch (answer.type) {
    case 'A':
    case 'AAAA':
    case 'CNAME':
    case 'NS':
      return answer.data;
    case 'MX':
      return `${answer.data.preference} ${answer.data.exchange}`;
    case 'TXT':
      return [answer.data].flat().map(String).join('');
    case 'CAA':
      return `${answer.data.flags ?? 0} ${answer.data.tag} "${answer.data.value}"`;
    case 'SOA':
      return `${answer.data.mname} ${answer.data.rname} ${answer.data.serial}`;
    default:
      return undefined;
  }
}

function addressOf(written: string): { host: string; port: number } {
  const bracketed = /^\[([^\]]+)\](?::(\d+))?$/.exec(written);
  const dotted = /^([\d.]+)(?::(\d+))?$/.exec(written);
  const [, host, port] = bracketed ?? dotted ?? [undefined, written, undefined];
  return { host: host!, port: Number(port ?? 53) };
}
