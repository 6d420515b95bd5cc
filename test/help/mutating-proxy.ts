import { createServer, type IncomingMessage, request } from 'node:http';
import type { AddressInfo } from 'node:net';
import { gzipSync } from 'node:zlib';

/** An answer on its way through the proxy. */
export interface Passing {
  status: number;
  headers: Record<string, string | string[]>;
  body: Buffer;
  /** Set to end the connection before all of the body is sent. */
  cut?: boolean;
  /** Set to end it before anything is. */
  dead?: boolean;
  /** Milliseconds to wait. */
  wait?: number;
}

/** What changes an answer, given the request as it came. */
export type Mutation = (
  answer: Passing,
  asked: { readonly path: string; readonly headers: IncomingMessage['headers'] },
) => void;

/** Passes requests on to a web server, and changes the answers. */
export class MutatingProxy {
  mutations: Mutation[] = [];
  /** How many requests came, and how many were under way at the same time at most. */
  requests = 0;
  busiest = 0;
  private busy = 0;
  private readonly server;

  constructor(upstream: string) {
    const to = new URL(upstream);
    this.server = createServer((asked, response) => {
      this.requests++;
      this.busiest = Math.max(this.busiest, ++this.busy);
      response.once('close', () => this.busy--);
      const headers = { ...asked.headers, 'accept-encoding': 'identity' };
      const options = { host: to.hostname, port: to.port, path: asked.url, method: asked.method, headers };
      const passing = request(options, async upstreamAnswer => {
        const chunks: Buffer[] = [];
        for await (const chunk of upstreamAnswer) chunks.push(chunk);
        const answer: Passing = {
          status: upstreamAnswer.statusCode!,
          headers: Object.fromEntries(
            Object.entries(upstreamAnswer.headers).filter(
              ([name]) => !/^(?:content-length|transfer-encoding|connection|keep-alive)$/.test(name),
            ),
          ) as Passing['headers'],
          body: Buffer.concat(chunks),
        };
        if (/^text|json|xml/.test(String(answer.headers['content-type'])))
          answer.headers['content-encoding'] = 'gzip';
        for (const mutate of this.mutations) mutate(answer, { path: asked.url!, headers: asked.headers });
        if (answer.wait) await new Promise(resolve => setTimeout(resolve, answer.wait));
        if (answer.dead) return void asked.socket.destroy();
        const body = answer.headers['content-encoding'] === 'gzip' ? gzipSync(answer.body) : answer.body;
        if (!answer.cut) return void response.writeHead(answer.status, answer.headers).end(body);
        response.writeHead(answer.status, { ...answer.headers, 'content-length': String(body.length + 10) });
        response.write(body, () => asked.socket.destroy());
      });
      passing.on('error', () => response.destroy());
      asked.pipe(passing);
    });
  }

  async listen(): Promise<string> {
    await new Promise<void>(resolve => this.server.listen(0, '127.0.0.1', resolve));
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
  }

  close(): Promise<unknown> {
    this.server.closeAllConnections();
    return new Promise(resolve => this.server.close(resolve));
  }
}
