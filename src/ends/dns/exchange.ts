import { randomInt } from 'node:crypto';
import { createSocket } from 'node:dgram';
import { connect, isIP } from 'node:net';
import {
  type Message,
  messageFromWire,
  messageToWire,
  type Question,
} from '../../core/dns/message/message.js';
import { sameName } from '../../core/dns/records/name.js';
import { type DnsServer, serverText } from './server.js';

/** For how long an answer is waited for, in milliseconds. */
const patience = 2500;
/** How often a datagram is sent. */
const tries = 2;
/** A message over a connection has at most so many bytes, by its length. */
const largest = 65_535;

/** A number for a question that nobody can guess. */
export function newId(): number {
  return randomInt(0x10000);
}

/**
 * Asks a server, over UDP and where the answer does not fit over TCP.
 * @throws an Error where it does not answer, or with what is no answer to the question
 */
export async function ask(server: DnsServer, question: Message, signal: AbortSignal): Promise<Message> {
  const wire = messageToWire(question);
  let last: unknown;
  for (let attempt = 0; attempt < tries; attempt++) {
    signal.throwIfAborted();
    try {
      const answer = await overUdp(server, wire, question, signal);
      return answer.flags.truncated ? await askOverTcp(server, question, signal) : answer;
    } catch (error) {
      last = error;
    }
  }
  throw last;
}

/** Asks a server over TCP (RFC 7766). @throws an Error as `ask` does */
async function askOverTcp(server: DnsServer, question: Message, signal: AbortSignal): Promise<Message> {
  for await (const wire of exchangeOverTcp(server, messageToWire(question), signal)) {
    const answer = answerIn(wire, question);
    if (answer) return answer;
  }
  throw noAnswer(server);
}

/** Whether a message is the answer to a question: anybody may send a datagram. */
function answerIn(wire: Buffer, question: Message): Message | undefined {
  try {
    const answer = messageFromWire(wire);
    if (answer.id !== question.id || !answer.flags.isResponse) return undefined;
    const [asked, answered] = [question.questions[0], answer.questions[0]];
    // A server that could not read the question does not repeat it.
    return !answered || isSame(asked!, answered) ? answer : undefined;
  } catch {
    return undefined;
  }
}

function isSame(a: Question, b: Question): boolean {
  return a.type === b.type && a.class === b.class && sameName(a.name, b.name);
}

function overUdp(server: DnsServer, wire: Buffer, question: Message, signal: AbortSignal): Promise<Message> {
  const { host, port } = server;
  return new Promise((resolve, reject) => {
    const socket = createSocket(isIP(host) === 6 ? 'udp6' : 'udp4');
    const end = (work: () => void) => {
      clearTimeout(timer);
      signal.removeEventListener('abort', abort);
      socket
        .removeAllListeners('message')
        .removeAllListeners('error')
        .on('error', () => {});
      socket.close();
      work();
    };
    const timer = setTimeout(() => end(() => reject(noAnswer(server))), patience);
    const abort = () => end(() => reject(signal.reason));
    signal.addEventListener('abort', abort, { once: true });
    socket.on('error', error => end(() => reject(failure(server, error))));
    socket.on('message', message => {
      const answer = answerIn(message, question);
      // What is no answer to the question is not waited for any less.
      if (answer) end(() => resolve(answer));
    });
    socket.connect(port, host, () => socket.send(wire));
  });
}

/**
 * Sends a message over a connection and gives each message that comes back, as long as one is asked for.
 * @throws an Error where the server does not answer, or ends in the middle of a message
 */
export async function* exchangeOverTcp(
  server: DnsServer,
  wire: Buffer,
  signal: AbortSignal,
): AsyncIterable<Buffer> {
  const { host, port } = server;
  const length = Buffer.from([wire.length >> 8, wire.length & 0xff]);
  const socket = connect({ host, port, signal });
  socket.setTimeout(patience * 4, () => socket.destroy(noAnswer(server)));
  try {
    socket.write(Buffer.concat([length, wire]));
    let held = Buffer.alloc(0);
    for await (const chunk of socket as AsyncIterable<Buffer>) {
      held = Buffer.concat([held, chunk]);
      for (;;) {
        const size = held.length < 2 ? largest : held.readUInt16BE(0);
        if (held.length < 2 + size) break;
        yield held.subarray(2, 2 + size);
        held = held.subarray(2 + size);
      }
    }
    throw noAnswer(server);
  } catch (error) {
    signal.throwIfAborted();
    throw failure(server, error as Error);
  } finally {
    socket.destroy();
  }
}

function failure(server: DnsServer, error: Error): Error {
  return (error as NodeJS.ErrnoException).code === 'ECONNREFUSED' ? noAnswer(server) : error;
}

function noAnswer(server: DnsServer): Error {
  return new Error(`the DNS server ${serverText(server)} does not answer`);
}
