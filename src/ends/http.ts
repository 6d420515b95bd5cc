import type { IncomingHttpHeaders } from 'node:http';
import type { Socket } from 'node:net';
import { TLSSocket } from 'node:tls';
import type { Agent } from 'undici';
import { type Address, addressPath, effectivePort, formatAddress } from '../core/address/address.js';
import type { Answer } from '../core/pages/compare.js';
import type { KnownCertificates } from './trust/certificates.js';

const largestPage = 10 * 1024 * 1024;
/** So long may a page take to come, in milliseconds, also one that comes byte by byte. */
const longestAnswer = 60_000;
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

/** Which certificates are accepted besides those that browsers accept. */
export interface WebTrust {
  readonly certificates: KnownCertificates;
  /** The fingerprint that the sheet gives. */
  readonly wanted: string | undefined;
  /** Where the sheet takes it. */
  readonly key: string;
}

/** A site as HTTP reaches it: under its address, though its name may not lead there yet. */
export class WebSite {
  readonly address: Address;
  private readonly reach: Address;
  private agent: Promise<Agent> | undefined;
  private from: string | undefined;

  private readonly trust: WebTrust | undefined;

  /**
   * @param reach where to connect to; the address's host is asked for there all the same
   * @param trust which certificates are accepted besides those that browsers accept
   */
  constructor(address: Address, reach: Address | undefined, trust?: WebTrust) {
    this.address = address;
    this.reach = reach ?? address;
    this.trust = trust;
  }

  /**
   * Gets a page and follows its redirects as long as they stay on this site.
   * @param path below the address, with a leading slash
   * @throws an Error of the network when the server does not answer within 20 seconds
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

  private async ask(
    url: URL,
    signal: AbortSignal,
    headers: Record<string, string>,
  ): Promise<Omit<SeenPage, 'address'> & { location: string | undefined }> {
    const { host, scheme } = this.reach;
    this.agent ??= this.connected(url.hostname);
    const asked = new Date();
    const answer = await (await this.agent).request({
      origin: `${scheme}://${host.includes(':') ? `[${host}]` : host}:${effectivePort(this.reach)}`,
      path: url.pathname + url.search,
      method: 'GET',
      headers: {
        host: url.host,
        'user-agent': 'able-porter',
        accept: 'text/html,*/*',
        'x-forwarded-proto': url.protocol.slice(0, -1),
        ...headers,
      },
      signal: AbortSignal.any([signal, AbortSignal.timeout(longestAnswer)]),
    });
    const status = answer.statusCode;
    const [location] = status >= 300 && status < 400 ? [answer.headers.location].flat() : [];
    const html = await textOf(answer.body);
    return { status, location, html, headers: answer.headers, asked, from: this.from };
  }

  /**
   * The package is loaded only when a site is asked. Its connections do not keep the process while nobody uses them.
   * @param servername the name that the certificate must have
   */
  private async connected(servername: string): Promise<Agent> {
    const { Agent: HttpAgent, buildConnector } = await import('./http-client.js');
    // The certificate is judged before anything is sent; then a person can be asked. A resumed session would not be judged.
    const unjudged = this.trust ? { rejectUnauthorized: false, maxCachedSessions: 0 } : {};
    const connect = buildConnector({ timeout: patience, ...unjudged });
    return new HttpAgent({
      headersTimeout: patience,
      bodyTimeout: patience,
      connect: (options, done) =>
        connect({ ...options, servername }, (...[error, socket]: Parameters<typeof done>) => {
          if (!socket) return done(error ?? new Error('no connection was made'), null);
          this.from = socket.remoteAddress;
          this.judge(socket).then(
            () => done(null, socket),
            (refused: Error) => {
              socket.destroy();
              done(refused, null);
            },
          );
        }),
    });
  }

  /** @throws an Error that names the sheet's line, for a certificate that is not accepted */
  private async judge(socket: Socket): Promise<void> {
    if (!this.trust || !(socket instanceof TLSSocket)) return;
    const { certificates, wanted, key } = this.trust;
    const refused = await certificates.refuses(socket, this.reach.host, effectivePort(this.reach), wanted);
    if (refused) throw new Error(`${refused.cause}; to accept it, write ${key}: ${refused.fingerprint}`);
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

/** What a page holds, but not more than a page does. */
async function textOf(body: AsyncIterable<Buffer>): Promise<string> {
  const chunks: Buffer[] = [];
  let size = 0;
  for await (const chunk of body) {
    size += chunk.length;
    chunks.push(chunk);
    if (size > largestPage) break;
  }
  return Buffer.concat(chunks).subarray(0, largestPage).toString('utf8');
}
