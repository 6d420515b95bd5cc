import { createHash } from 'node:crypto';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import type { TLSSocket } from 'node:tls';
import { EndError } from '../../core/errors.js';
import { TicketJudge } from '../../core/handover/judge.js';
import { partBytes } from '../../core/handover/received.js';
import type { Ticket } from '../../core/handover/ticket.js';
import type { GrowingTar } from '../archive/growing-tar.js';
import type { OneTimeCertificate } from './certificate.js';
import { connectTo, listen } from './connection.js';
import { refusal, triedOut } from './refusals.js';

/** So long a request waits for a crate that grows, in milliseconds. */
const patience = 20_000;
/** How many connections are opened to a collector that listens. */
const connections = 4;

/** What happens while a crate is offered. */
export interface OfferingEvents {
  /** A collector was let in for the first time. */
  collecting?(from: string): void;
  /** Bytes that were sent, and of how many; the whole is not known while the crate grows. */
  sent?(bytes: number, of: number | undefined): void;
  refused?(why: string, from: string): void;
}

/** Serves a crate to one collector: its bytes by parts, each with the SHA-256 of the whole part behind it. */
export class Offering {
  /** Resolves when the collector has all of it. */
  readonly collected: Promise<void>;
  private readonly tar: GrowingTar;
  private readonly judge: TicketJudge;
  private readonly events: OfferingEvents;
  private readonly server: Server;
  private readonly sockets = new Set<Socket>();
  private end: () => void = () => {};
  private fail: (error: Error) => void = () => {};
  private hasCollector = false;
  private sent = 0;

  constructor(tar: GrowingTar, ticket: Pick<Ticket, 'secret' | 'ends'>, events: OfferingEvents = {}) {
    this.tar = tar;
    this.judge = new TicketJudge(ticket);
    this.events = events;
    this.collected = new Promise((resolve, reject) => {
      this.end = resolve;
      this.fail = reject;
    });
    // It may be over before anybody waits for it.
    this.collected.catch(() => {});
    this.server = createServer((request, response) => {
      this.answer(request, response).catch(() => response.destroy());
    });
    this.server.on('connection', socket => {
      this.sockets.add(socket);
      socket.once('close', () => this.sockets.delete(socket));
      socket.on('error', () => {});
    });
  }

  /** Waits for a collector. @returns the port, and what ends it */
  async listen(
    certificate: OneTimeCertificate,
    port: number,
  ): Promise<{ port: number; close(): Promise<void> }> {
    const waiting = await listen(certificate, port, socket => this.server.emit('connection', socket));
    return {
      port: waiting.port,
      close: () => {
        for (const socket of this.sockets) socket.destroy();
        return waiting.close();
      },
    };
  }

  /** Connects to a collector that listens, and serves it; again and again until it has all, or nobody answers any more. */
  async serve(ticket: Ticket, signal: AbortSignal, failed: (error: Error) => Promise<void>): Promise<void> {
    let isOver = false;
    const over = () => {
      isOver = true;
    };
    this.collected.then(over, over);
    let lines = 0;
    let end: (error: unknown) => void = () => {};
    const begin = () => {
      lines++;
      line().catch(end);
    };
    const line = async () => {
      while (!isOver && !signal.aborted) {
        try {
          const socket = await connectTo(ticket, signal);
          await greet(socket, ticket.secret);
          // Only who was let in once opens more lines: each with a wrong secret would count.
          while (lines < connections) begin();
          this.server.emit('connection', socket);
          await new Promise(resolve => socket.once('close', resolve));
        } catch (error) {
          signal.throwIfAborted();
          if (error instanceof EndError) throw error;
          if (!isOver) await failed(error as Error);
        }
      }
    };
    await new Promise<void>((resolve, reject) => {
      end = reject;
      this.collected.then(resolve, reject);
      begin();
    });
    for (const socket of this.sockets) socket.destroy();
    signal.throwIfAborted();
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const from = request.socket.remoteAddress ?? '';
    const secret = /^Bearer ([\da-f]{32})$/.exec(request.headers.authorization ?? '')?.[1] ?? '';
    const why = this.judge.refuses(secret, String(request.headers['x-collector'] ?? ''));
    if (why !== undefined) {
      this.events.refused?.(why, from);
      response.writeHead(why === 'wrong secret' ? 401 : 403, { 'content-type': 'text/plain' }).end(why);
      if (this.judge.dead === 'too many wrong tries') this.fail(triedOut('Offering the crate'));
      return;
    }
    if (!this.hasCollector) this.events.collecting?.(from);
    this.hasCollector = true;
    const { pathname, searchParams } = new URL(request.url ?? '/', 'https://offer');
    if (request.method === 'POST' && pathname === '/done') {
      this.judge.done();
      response.end();
      response.once('close', () => this.end());
      return;
    }
    const { tar } = this;
    if (tar.failure) {
      response.writeHead(500, { 'content-type': 'text/plain' }).end('the crate was not finished');
      return;
    }
    if (pathname === '/state') {
      response.end(JSON.stringify({ bytes: tar.bytes, isWhole: tar.isWhole }));
      return;
    }
    const number = Number(searchParams.get('part'));
    const offset = Number(searchParams.get('from') ?? 0);
    const begin = number * partBytes;
    if (pathname !== '/part' || ![number, offset].every(one => Number.isSafeInteger(one) && one >= 0)) {
      response.writeHead(404).end();
      return;
    }
    if (!(await tar.reaches(begin + partBytes, patience))) {
      response.writeHead(503, { 'retry-after': '1' }).end();
      return;
    }
    const end = Math.min(begin + partBytes, tar.bytes);
    if (begin >= end) {
      response.writeHead(404).end();
      return;
    }
    // Whoever has more than there is has another crate, as the checksum shows.
    await this.sendPart(response, { begin, from: Math.min(begin + offset, end), end });
  }

  private async sendPart(
    response: ServerResponse,
    { begin, from, end }: { readonly begin: number; readonly from: number; readonly end: number },
  ): Promise<void> {
    response.writeHead(200, { trailer: 'content-digest', 'content-type': 'application/octet-stream' });
    const hash = createHash('sha256');
    for await (const chunk of this.tar.range(begin, from)) hash.update(chunk);
    for await (const chunk of this.tar.range(from, end)) {
      hash.update(chunk);
      this.sent += chunk.length;
      this.events.sent?.(this.sent, this.tar.isWhole ? this.tar.bytes : undefined);
      // Of one that was closed before, nothing more would be heard.
      if (!response.write(chunk) && !response.destroyed)
        await new Promise<void>(resolve => onceEither(response, resolve));
      if (response.destroyed) return;
    }
    response.addTrailers({ 'content-digest': `sha-256=:${hash.digest('base64')}:` });
    response.end();
  }
}

/** When more can be written, or nobody reads any more. */
function onceEither(response: ServerResponse, go: () => void): void {
  const done = () => {
    response.off('drain', done).off('close', done);
    go();
  };
  response.on('drain', done).on('close', done);
}

/** Says the secret to a collector that waits. @throws EndError where that one does not take it */
async function greet(socket: TLSSocket, secret: string): Promise<void> {
  socket.write(`${secret}\n`);
  const answer = await new Promise<string>((resolve, reject) => {
    socket.once('data', chunk => resolve(String(chunk).trim()));
    socket.once('close', () => reject(new Error('the collector closed the connection')));
  });
  if (answer !== welcome) throw refusal('Offering the crate', answer);
}

/** What a collector that waits answers to the right secret. */
export const welcome = 'welcome';
