import type { Socket } from 'node:net';
import { TLSSocket } from 'node:tls';
import type { Agent } from 'undici';
import { type Address, addressPath, effectivePort, formatAddress } from '../../core/address/address.js';
import { hexFingerprint } from '../../core/fingerprint.js';
import type { Answer, Headers } from '../../core/pages/read/answer.js';
import { decodePage } from '../../core/pages/read/charset.js';
import { mediaTypeOf } from '../../core/pages/read/media.js';
import { fingerprintOf } from '../trust/certificate.js';
import type { KnownCertificates, RefusedCertificate } from '../trust/certificates.js';
import { readBody } from './body.js';

const largestPage = 10 * 1024 * 1024;
/** So long may a page take to come, in milliseconds, also one that comes byte by byte. */
const longestAnswer = 60_000;
const patience = 20_000;
const mostRedirects = 5;

/** A page, and what its server says of itself. */
export interface SeenPage extends Answer {
  /** When it was asked for, by this machine's clock. */
  readonly asked: Date;
  /** The IP address that answered. */
  readonly from: string | undefined;
  /** The body, unpacked. */
  readonly content: Buffer;
}

/** Which certificates are accepted besides those that browsers accept. */
export interface WebTrust {
  readonly certificates: KnownCertificates;
  /** The fingerprint that the sheet gives. */
  readonly wanted: string | undefined;
  /** Where the sheet takes it. */
  readonly key: string;
  /** Whether pages are looked at over a connection that nobody vouches for. Nothing that is secret may be sent then. */
  readonly looksAnyway?: boolean;
}

/** How a request differs from the plain one. */
export interface Asking {
  readonly headers?: Readonly<Record<string, string>>;
  /** A form that is sent. */
  readonly form?: URLSearchParams;
  /** Bytes that are sent as they are. */
  readonly bytes?: Buffer;
  /** Not one redirect is followed. */
  readonly isOneHop?: boolean;
  /** A host by which the site is asked, other than that of its address. */
  readonly host?: string;
  /** Bytes of the body that are read at most. */
  readonly most?: number;
}

/** How a site is reached and asked. */
export interface WebOptions {
  readonly trust?: WebTrust;
  /** Where HTTPS is, if it is not at its usual port at the place where the site is reached. */
  readonly https?: Address | undefined;
  /** How many connections are made at most. */
  readonly atOnce?: number;
}

/** A site as HTTP reaches it: under its address, though its name may not lead there yet. */
export class WebSite {
  readonly address: Address;
  /** Why the certificate that was shown is not accepted; undefined where it is, or none was shown yet. */
  refused: RefusedCertificate | undefined;
  /** The SHA-256 fingerprint of a certificate that is accepted although nobody vouches for it, as hex without colons. */
  pinned: string | undefined;
  /** Whether it sends visitors of HTTP to HTTPS. */
  forcesHttps = false;
  private readonly reach: Address | undefined;
  private readonly https: Address | undefined;
  private readonly trust: WebTrust | undefined;
  private readonly atOnce: number;
  private hasNoHttps = false;
  private agent: Promise<Agent> | undefined;
  private from: string | undefined;

  /**
   * @param reach where to connect to; the address's host is asked for there all the same
   */
  constructor(address: Address, reach?: Address, { trust, https, atOnce = 8 }: WebOptions = {}) {
    this.address = address;
    this.reach = reach;
    this.https = https;
    this.trust = trust;
    this.atOnce = atOnce;
  }

  /**
   * Gets a page and follows its redirects as long as they stay on this site.
   * @param path below the address, with a leading slash
   * @throws an Error of the network when the server does not answer within 20 seconds
   */
  async get(path: string, signal: AbortSignal, asking: Asking = {}): Promise<SeenPage> {
    return this.follow(new URL(formatAddress(this.address) + path), signal, asking);
  }

  /** The same for a whole URL on the site's host. */
  async follow(start: URL, signal: AbortSignal, asking: Asking = {}): Promise<SeenPage> {
    let url = start;
    const been = new Set([url.href]);
    let rest = asking;
    for (let redirects = 0; ; redirects++) {
      const { location, ...seen } = await this.ask(url, signal, rest);
      const end = (address: string, isLoop = false): SeenPage => ({ ...seen, address, redirects, isLoop });
      if (location === undefined || !URL.canParse(location, url.href)) return end(url.href);
      const next = new URL(location, url.href);
      if (asking.isOneHop) return end(next.href);
      if (next.host !== url.host || !/^https?:$/.test(next.protocol)) return end(next.href);
      if (next.href === url.href && next.protocol === 'https:' && (await this.switchToHttps(url, signal)))
        continue;
      if (been.has(next.href) || redirects === mostRedirects) return end(next.href, true);
      been.add(next.href);
      url = next;
      // What was sent is not sent again.
      const { form: _form, bytes: _bytes, ...others } = asking;
      rest = others;
    }
  }

  /** Whether what is sent to the site can be read by nobody else: it is encrypted for whom was meant, or does not leave this machine. */
  get keepsSecrets(): boolean {
    const { scheme, host } = this.through(this.address.scheme);
    if (/^(?:127\.|localhost$|::1$|\[::1\]$)/.test(host)) return true;
    return scheme === 'https' && this.refused === undefined;
  }

  /** Where it is connected to now. */
  get reached(): string {
    return formatAddress({ ...this.through(this.address.scheme), segments: [] });
  }

  /** Ends its connections. */
  async close(): Promise<void> {
    await (await this.agent?.catch(() => undefined))?.destroy();
    this.agent = undefined;
  }

  /** A server that sends visitors of HTTP to the same address wants them over HTTPS, where it has that. */
  private async switchToHttps(url: URL, signal: AbortSignal): Promise<boolean> {
    if (!this.reach || this.forcesHttps || this.hasNoHttps || this.reach.scheme === 'https') return false;
    this.forcesHttps = true;
    try {
      await this.ask(url, signal, { most: 0 });
    } catch {
      signal.throwIfAborted();
      this.hasNoHttps = true;
      this.forcesHttps = false;
    }
    return this.forcesHttps;
  }

  /** @param asked the scheme of the URL that is asked for */
  private through(asked: 'http' | 'https'): Address {
    if (!this.reach)
      return asked === this.address.scheme
        ? this.address
        : { ...this.address, scheme: asked, port: undefined };
    if (!this.forcesHttps) return this.reach;
    return this.https ?? { ...this.reach, scheme: 'https', port: undefined };
  }

  private async ask(
    url: URL,
    signal: AbortSignal,
    { headers, form, bytes: sent, host: named, most = largestPage }: Asking,
  ): Promise<Omit<SeenPage, 'address' | 'redirects' | 'isLoop'> & { location: string | undefined }> {
    const asScheme = url.protocol === 'https:' ? 'https' : 'http';
    const through = this.through(asScheme);
    const { host, scheme } = through;
    this.agent ??= this.connected(url.hostname);
    const asked = new Date();
    const began = performance.now();
    const answer = await (await this.agent).request({
      origin: `${scheme}://${host.includes(':') ? `[${host}]` : host}:${effectivePort(through)}`,
      path: url.pathname + url.search,
      method: form || sent ? 'POST' : 'GET',
      headers: {
        host: named ?? url.host,
        'user-agent': 'able-porter',
        accept: 'text/html,*/*',
        'accept-encoding': 'gzip, deflate, br',
        ...(scheme === 'https' ? {} : { 'x-forwarded-proto': asScheme }),
        ...(form ? { 'content-type': 'application/x-www-form-urlencoded' } : {}),
        ...(sent ? { 'content-type': 'application/octet-stream' } : {}),
        ...headers,
      },
      ...(form || sent ? { body: sent ?? form!.toString() } : {}),
      signal: AbortSignal.any([signal, AbortSignal.timeout(longestAnswer)]),
    });
    const millis = performance.now() - began;
    const status = answer.statusCode;
    const [location] = status >= 300 && status < 400 ? [answer.headers.location].flat() : [];
    const { bytes, state, sent: came } = await readBody(answer.body, encodingOf(answer.headers), most);
    signal.throwIfAborted();
    const type = String(answer.headers['content-type'] ?? '');
    const html = isText(type, bytes) ? decodePage(bytes, type) : '';
    const { from } = this;
    return {
      status,
      location,
      html,
      headers: answer.headers,
      asked,
      from,
      body: state,
      bytes: came,
      millis,
      content: bytes,
    };
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
      connections: this.atOnce,
      headersTimeout: patience,
      bodyTimeout: patience,
      maxHeaderSize: 64 * 1024,
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
    const { certificates, wanted, key, looksAnyway } = this.trust;
    const through = this.through('https');
    const refused = await certificates.refuses(socket, through.host, effectivePort(through), wanted);
    this.refused = refused;
    this.pinned = socket.authorized
      ? undefined
      : hexFingerprint(fingerprintOf(socket)).slice('SHA256:'.length).replaceAll(':', '').toLowerCase();
    if (refused && !looksAnyway)
      throw new Error(`${refused.cause}; to accept it, write ${key}: ${refused.fingerprint}`);
  }

  /** The path below the address that a link on one of its pages leads to, or undefined where it leads elsewhere. */
  pathOf(link: string, from: string): string | undefined {
    if (!URL.canParse(link, from)) return undefined;
    const url = new URL(link, from);
    const base = addressPath(this.address);
    if (!/^https?:$/.test(url.protocol) || url.host !== new URL(formatAddress(this.address)).host)
      return undefined;
    if (url.pathname !== base && !url.pathname.startsWith(`${base}/`)) return undefined;
    return (url.pathname.slice(base.length) || '/') + url.search;
  }
}

function encodingOf(headers: Headers): string | undefined {
  const value = headers['content-encoding'];
  return value === undefined ? undefined : String(value);
}

/** Whether a body is worth reading as text. */
function isText(type: string, bytes: Buffer): boolean {
  if (/^text\/|json|xml|javascript|ecmascript|x-www-form/i.test(type)) return true;
  return type === '' && ['html', 'text', 'svg'].includes(mediaTypeOf(bytes));
}
