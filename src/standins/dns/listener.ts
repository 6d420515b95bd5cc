import { createSocket } from 'node:dgram';
import { type AddressInfo, createServer, type Server, type Socket } from 'node:net';
import { type Message, messageFromWire, messageToWire } from '../../core/dns/message/message.js';

/** What a stand-in makes of a message: whole messages to send back, or none. */
export type DnsHandler = (wire: Buffer, message: Message) => Promise<readonly Buffer[]> | readonly Buffer[];

/** A datagram holds so much where nobody has agreed on more (RFC 1035, section 4.2.1). */
const datagram = 512;

/** Listens for DNS messages on a free port of an address of this machine, over UDP and TCP. */
export class DnsListener {
  private readonly host: string;
  private readonly handle: DnsHandler;
  private readonly udp;
  private readonly tcp: Server;
  private readonly sockets = new Set<Socket>();

  constructor(handle: DnsHandler, host = '127.0.0.1') {
    this.host = host;
    this.handle = handle;
    this.udp = createSocket('udp4');
    this.udp.on('message', async (wire, from) => {
      const [answer] = await this.answers(wire);
      if (!answer) return;
      const sent = answer.length > datagram ? cut(answer) : answer;
      this.udp.send(sent, from.port, from.address);
    });
    this.tcp = createServer(socket => this.serve(socket));
  }

  /** Starts to listen; gives its address with its port. */
  async listen(): Promise<string> {
    for (;;) {
      await new Promise<void>((resolve, reject) => {
        this.tcp.once('error', reject).listen(0, this.host, resolve);
      });
      const { port } = this.tcp.address() as AddressInfo;
      try {
        await new Promise<void>((resolve, reject) => {
          this.udp.once('error', reject).bind(port, this.host, () => {
            this.udp.removeListener('error', reject);
            resolve();
          });
        });
        return `${this.host}:${port}`;
      } catch (error) {
        // The port is free for connections and taken for datagrams; another will do.
        if ((error as NodeJS.ErrnoException).code !== 'EADDRINUSE') throw error;
        await new Promise(resolve => this.tcp.close(resolve));
      }
    }
  }

  async close(): Promise<void> {
    for (const socket of this.sockets) socket.destroy();
    await new Promise<void>(resolve => this.udp.close(resolve));
    await new Promise(resolve => this.tcp.close(resolve));
  }

  private serve(socket: Socket): void {
    this.sockets.add(socket);
    socket.on('error', () => socket.destroy()).on('close', () => this.sockets.delete(socket));
    let held = Buffer.alloc(0);
    socket.on('data', async chunk => {
      held = Buffer.concat([held, chunk]);
      while (held.length >= 2 && held.length >= 2 + held.readUInt16BE(0)) {
        const wire = held.subarray(2, 2 + held.readUInt16BE(0));
        held = held.subarray(2 + wire.length);
        for (const answer of await this.answers(wire)) {
          socket.write(Buffer.concat([Buffer.from([answer.length >> 8, answer.length & 0xff]), answer]));
        }
      }
    });
  }

  private async answers(wire: Buffer): Promise<readonly Buffer[]> {
    try {
      return await this.handle(wire, messageFromWire(wire));
    } catch {
      // What cannot be read is not answered.
      return [];
    }
  }
}

/** An answer without its records, with the flag that it is truncated. */
function cut(wire: Buffer): Buffer {
  const message = messageFromWire(wire);
  const flags = { ...message.flags, truncated: true };
  return messageToWire({ ...message, flags, answers: [], authorities: [], additionals: [] });
}
