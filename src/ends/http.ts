import { type IncomingHttpHeaders, request as requestHttp } from 'node:http';
import { request as requestHttps } from 'node:https';
import { type Address, addressPath, effectivePort, formatAddress } from '../core/address/address.js';
import type { Answer } from '../core/pages/compare.js';

const largestPage = 10 * 1024 * 1024;
const patience = 20_000;
const mostRedirects = 5;

/** A page, and what its server says of itself. */
export interface SeenPage extends Answer {
  readonly headers: IncomingHttpHeaders;
  /** When it was asked for, by this machine's clock. */
  readonly asked: Date;
  /** The IP address that answered. */
  readonly from: string | undefined;
}

/** A site as HTTP reaches it: under its address, though its name may not lead there yet. */
export class WebSite {
  readonly address: Address;
  private readonly reach: Address;

  /** @param reach where to connect to; the address's host is asked for there all the same */
  constructor(address: Address, reach: Address | undefined) {
    this.address = address;
    this.reach = reach ?? address;
  }

  /**
   * Gets a page and follows its redirects as long as they stay on this site.
   * @param path below the address, with a leading slash
   * @throws an Error of the network when the server cannot be reached in 20 seconds
   */
  async get(path: string, signal: AbortSignal, headers: Record<string, string> = {}): Promise<SeenPage> {
    let url = new URL(formatAddress(this.address) + path);
    for (let redirects = 0; ; redirects++) {
      const { location, ...seen } = await this.ask(url, signal, headers);
      if (location === undefined || redirects === mostRedirects) return { ...seen, address: url.href };
      const next = new URL(location, url);
      if (next.host !== url.host) return { ...seen, address: next.href };
      url = next;
    }
  }

  private ask(
    url: URL,
    signal: AbortSignal,
    headers: Record<string, string>,
  ): Promise<Omit<SeenPage, 'address'> & { location: string | undefined }> {
    const { reach } = this;
    const request = reach.scheme === 'https' ? requestHttps : requestHttp;
    const asked = new Date();
    return new Promise((resolve, reject) => {
      const outgoing = request(
        {
          host: reach.host,
          port: effectivePort(reach),
          path: url.pathname + url.search,
          headers: {
            host: url.host,
            'user-agent': 'able-porter',
            accept: 'text/html,*/*',
            'x-forwarded-proto': url.protocol.slice(0, -1),
            ...headers,
          },
          servername: url.hostname,
          timeout: patience,
          signal,
          agent: false,
        },
        answer => {
          const chunks: Buffer[] = [];
          let size = 0;
          const from = answer.socket.remoteAddress;
          answer.on('data', (chunk: Buffer) => {
            size += chunk.length;
            if (size <= largestPage) chunks.push(chunk);
          });
          answer.on('error', reject);
          answer.on('end', () => {
            const status = answer.statusCode ?? 0;
            const location = status >= 300 && status < 400 ? answer.headers.location : undefined;
            const html = Buffer.concat(chunks).toString('utf8');
            resolve({ status, location, html, headers: answer.headers, asked, from });
          });
        },
      );
      outgoing.on('timeout', () => outgoing.destroy(new Error(`no answer in ${patience / 1000} seconds`)));
      outgoing.on('error', reject);
      outgoing.end();
    });
  }

  /** The path below the address that a link on one of its pages leads to, or undefined where it leads elsewhere. */
  pathOf(link: string, from: string): string | undefined {
    if (!URL.canParse(link, from)) return undefined;
    const url = new URL(link, from);
    const base = addressPath(this.address);
    if (url.host !== new URL(formatAddress(this.address)).host) return undefined;
    if (url.pathname !== base && !url.pathname.startsWith(`${base}/`)) return undefined;
    return (url.pathname.slice(base.length) || '/') + url.search;
  }
}
