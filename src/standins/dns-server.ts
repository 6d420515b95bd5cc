import { createSocket, type Socket } from 'node:dgram';
import { type AddressInfo, createServer, type Server } from 'node:net';
import {
  type Answer,
  AUTHORITATIVE_ANSWER,
  decode,
  encode,
  type Packet,
  streamEncode,
  TRUNCATED_RESPONSE,
} from 'dns-packet';

/** A DNS server that simulates real ones, on a free loopback port. */
export class StandinDnsServer {
  /** Its zone. May be changed while it runs, as by somebody at a panel. */
  records: readonly Answer[];
  private readonly udp = createSocket('udp4');
  private readonly tcp = createServer(socket => {
    socket.on('error', () => socket.destroy());
    socket.once('data', message => socket.end(streamEncode(this.answerTo(message.subarray(2)))));
  });

  constructor(records: readonly Answer[]) {
    this.records = records;
    this.udp.on('message', (message, from) => {
      const answer = this.answerTo(message);
      const whole = encode(answer);
      const cut = { ...answer, answers: [], flags: (answer.flags ?? 0) | TRUNCATED_RESPONSE };
      this.udp.send(whole.length > 512 ? encode(cut) : whole, from.port, from.address);
    });
  }

  /** Starts to listen; gives its address with its port. */
  async listen(): Promise<string> {
    for (;;) {
      const port = await listening(this.tcp, 0);
      try {
        await bound(this.udp, port);
        return `127.0.0.1:${port}`;
      } catch (error) {
        // The port is free for connections and taken for datagrams; another will do.
        if ((error as NodeJS.ErrnoException).code !== 'EADDRINUSE') throw error;
        await new Promise(resolve => this.tcp.close(resolve));
      }
    }
  }

  async close(): Promise<void> {
    await new Promise<void>(resolve => this.udp.close(resolve));
    await new Promise(resolve => this.tcp.close(resolve));
  }

  private answerTo(message: Buffer): Packet {
    const { id, questions } = decode(message);
    const [asked] = questions ?? [];
    const named = this.records.filter(({ name }) => name === asked?.name.toLowerCase());
    return {
      type: 'response',
      id,
      flags: AUTHORITATIVE_ANSWER | (named.length === 0 ? nameError : 0),
      questions,
      answers: named.filter(({ type }) => type === asked?.type || type === 'CNAME'),
    };
  }
}

async function listening(server: Server, port: number): Promise<number> {
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject).listen(port, '127.0.0.1', resolve);
  });
  return (server.address() as AddressInfo).port;
}

function bound(socket: Socket, port: number): Promise<void> {
  return new Promise((resolve, reject) => {
    socket.once('error', reject);
    socket.bind(port, '127.0.0.1', () => {
      socket.removeListener('error', reject);
      resolve();
    });
  });
}

/** The response code for a name that is not there (RFC 1035, section 4.1.1). */
const nameError = 3;
