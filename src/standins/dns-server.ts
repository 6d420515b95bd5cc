import { createSocket } from 'node:dgram';
import { createServer } from 'node:net';
import {
  type Answer,
  AUTHORITATIVE_ANSWER,
  decode,
  encode,
  type Packet,
  streamEncode,
  TRUNCATED_RESPONSE,
} from 'dns-packet';

/** A DNS server that stands in for real ones, on a free loopback port. */
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
    await new Promise<void>(resolve => this.udp.bind(0, '127.0.0.1', resolve));
    const { port } = this.udp.address();
    await new Promise<void>((resolve, reject) => {
      this.tcp.once('error', reject).listen(port, '127.0.0.1', resolve);
    });
    return `127.0.0.1:${port}`;
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

/** The response code for a name that is not there (RFC 1035, section 4.1.1). */
const nameError = 3;
