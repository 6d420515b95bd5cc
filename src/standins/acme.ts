import { createHash, createPublicKey, type JsonWebKey, randomBytes, verify, webcrypto } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { createServer, type Server } from 'node:https';
import type { AddressInfo } from 'node:net';
import {
  AuthorityKeyIdentifierExtension,
  BasicConstraintsExtension,
  cryptoProvider,
  PemConverter,
  Pkcs10CertificateRequest,
  SubjectAlternativeNameExtension,
  type X509Certificate,
  X509CertificateGenerator,
} from '@peculiar/x509';

/** How the stand-in sees whether a proof is there. */
export interface AcmeSight {
  /** The texts of the TXT records of a host. */
  readonly txt: (host: string) => Promise<readonly string[]>;
  /** The content of a path of a host over HTTP; undefined where it is not there. */
  readonly page: (host: string, path: string) => Promise<string | undefined>;
}

interface Order {
  readonly hosts: readonly string[];
  readonly proven: Set<string>;
  readonly token: string;
  certificate: string | undefined;
}

const day = 86_400_000;
const algorithm = { name: 'ECDSA', namedCurve: 'P-256', hash: 'SHA-256' } as const;

/** A certificate authority that simulates real ones (ACME, RFC 8555), on a free loopback port. Nobody trusts it. */
export class StandinAcmeServer {
  private readonly sight: AcmeSight;
  private readonly nonces = new Set<string>();
  private readonly accounts = new Map<string, JsonWebKey>();
  private readonly orders: Order[] = [];
  private readonly authority: Promise<{ root: X509Certificate; keys: webcrypto.CryptoKeyPair }>;
  private server: Server | undefined;
  private base = '';

  constructor(sight: AcmeSight) {
    this.sight = sight;
    cryptoProvider.set(webcrypto as typeof globalThis.crypto);
    this.authority = makeAuthority();
  }

  /** Starts to listen; gives the URL of its directory, and the certificate (PEM) that its own server shows. */
  async listen(): Promise<{ readonly directory: string; readonly trust: string }> {
    const { root } = await this.authority;
    const own = (await webcrypto.subtle.generateKey(algorithm, true, [
      'sign',
      'verify',
    ])) as webcrypto.CryptoKeyPair;
    const shown = await this.issue(own.publicKey, [{ type: 'ip', value: '127.0.0.1' }]);
    const exported = Buffer.from(await webcrypto.subtle.exportKey('pkcs8', own.privateKey));
    const key = PemConverter.encode(exported, 'PRIVATE KEY');
    this.server = createServer({ key, cert: shown.toString('pem') }, (request, response) =>
      this.answer(request, response).catch(error => this.refuse(response, 400, 'malformed', String(error))),
    );
    await new Promise<void>(resolve => this.server!.listen(0, '127.0.0.1', resolve));
    this.base = `https://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
    return { directory: `${this.base}/directory`, trust: root.toString('pem') };
  }

  async close(): Promise<void> {
    this.server?.closeAllConnections();
    await new Promise<void>(resolve => (this.server ? this.server.close(() => resolve()) : resolve()));
  }

  private async issue(
    publicKey: webcrypto.CryptoKey,
    names: ConstructorParameters<typeof SubjectAlternativeNameExtension>[0] & readonly unknown[],
  ): Promise<X509Certificate> {
    const { root, keys } = await this.authority;
    return X509CertificateGenerator.create({
      serialNumber: randomBytes(8).toString('hex'),
      issuer: root.subject,
      notBefore: new Date(Date.now() - day),
      notAfter: new Date(Date.now() + 90 * day),
      signingAlgorithm: algorithm,
      publicKey,
      signingKey: keys.privateKey,
      extensions: [
        new SubjectAlternativeNameExtension(names),
        await AuthorityKeyIdentifierExtension.create(root.publicKey),
      ],
    });
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const nonce = randomBytes(12).toString('base64url');
    this.nonces.add(nonce);
    response.setHeader('replay-nonce', nonce);
    const { base } = this;
    const path = request.url!;
    if (path === '/directory') {
      const urls = { newNonce: `${base}/nonce`, newAccount: `${base}/account`, newOrder: `${base}/order` };
      return this.send(response, 200, urls);
    }
    if (path === '/nonce') return void response.writeHead(request.method === 'HEAD' ? 200 : 204).end();
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk);
    const asked = this.opened(Buffer.concat(chunks), path);
    if (typeof asked === 'string')
      return this.refuse(response, 400, asked, 'the request is not signed rightly');
    const [, what, number = '', host = '', kind = ''] = path.split('/');
    const order = this.orders[Number(number)];
    if (what === 'account') {
      response.setHeader('location', asked.account);
      return this.send(response, 201, { status: 'valid' });
    }
    if (what === 'order' && number === '') return this.order(response, asked.payload);
    if (!order) return this.refuse(response, 404, 'malformed', 'there is no such order');
    if (what === 'order') return this.send(response, 200, this.shown(order));
    if (what === 'authorization') return this.send(response, 200, this.authorization(order, host));
    if (what === 'challenge')
      return this.prove(response, order, { host, kind, thumbprint: asked.thumbprint });
    if (what === 'finalize') return this.finalize(response, order, asked.payload as { csr?: string });
    response.setHeader('content-type', 'application/pem-certificate-chain');
    response.end(order.certificate);
  }

  /** What a request says, once its signature and nonce are right (RFC 8555, section 6); the kind of problem otherwise. */
  private opened(
    body: Buffer,
    path: string,
  ): { account: string; thumbprint: string; payload: unknown } | 'badNonce' | 'malformed' | 'unauthorized' {
    const { protected: head, payload, signature } = JSON.parse(body.toString()) as Record<string, string>;
    const { nonce, url, jwk, kid, alg } = JSON.parse(Buffer.from(head!, 'base64url').toString());
    if (!this.nonces.delete(nonce)) return 'badNonce';
    const key: JsonWebKey | undefined = jwk ?? this.accounts.get(kid);
    if (!key || url !== this.base + path || alg !== 'ES256') return 'malformed';
    const isRight = verify(
      'sha256',
      Buffer.from(`${head}.${payload}`),
      { key: createPublicKey({ key, format: 'jwk' }), dsaEncoding: 'ieee-p1363' },
      Buffer.from(signature!, 'base64url'),
    );
    if (!isRight) return 'unauthorized';
    const { crv, kty, x, y } = key;
    const thumbprint = createHash('sha256').update(JSON.stringify({ crv, kty, x, y })).digest('base64url');
    const account = `${this.base}/account/${thumbprint}`;
    this.accounts.set(account, key);
    return {
      account,
      thumbprint,
      payload: payload ? JSON.parse(Buffer.from(payload, 'base64url').toString()) : undefined,
    };
  }

  private order(response: ServerResponse, payload: unknown): void {
    const { identifiers } = payload as { identifiers: readonly { value: string }[] };
    const order: Order = {
      hosts: identifiers.map(({ value }) => value),
      proven: new Set(),
      token: randomBytes(16).toString('base64url'),
      certificate: undefined,
    };
    this.orders.push(order);
    response.setHeader('location', `${this.base}/order/${this.orders.length - 1}`);
    this.send(response, 201, this.shown(order));
  }

  private shown(order: Order): unknown {
    const number = this.orders.indexOf(order);
    const isReady = order.hosts.every(host => order.proven.has(host));
    return {
      status: order.certificate ? 'valid' : isReady ? 'ready' : 'pending',
      identifiers: order.hosts.map(value => ({ type: 'dns', value })),
      authorizations: order.hosts.map(host => `${this.base}/authorization/${number}/${host}`),
      finalize: `${this.base}/finalize/${number}`,
      ...(order.certificate ? { certificate: `${this.base}/certificate/${number}` } : {}),
    };
  }

  private authorization(order: Order, host: string): unknown {
    const status = order.proven.has(host) ? 'valid' : 'pending';
    const number = this.orders.indexOf(order);
    return {
      status,
      identifier: { type: 'dns', value: host },
      challenges: ['dns-01', 'http-01'].map(type => ({
        type,
        status,
        token: order.token,
        url: `${this.base}/challenge/${number}/${host}/${type}`,
      })),
    };
  }

  /** Looks whether a proof is there (RFC 8555, section 8). */
  private async prove(
    response: ServerResponse,
    order: Order,
    { host, kind, thumbprint }: { host: string; kind: string; thumbprint: string },
  ): Promise<void> {
    const text = `${order.token}.${thumbprint}`;
    const digest = createHash('sha256').update(text).digest('base64url');
    const isThere =
      kind === 'dns-01'
        ? (await this.sight.txt(`_acme-challenge.${host}`)).includes(digest)
        : (await this.sight.page(host, `/.well-known/acme-challenge/${order.token}`))?.trim() === text;
    if (!isThere) return this.refuse(response, 403, 'unauthorized', `the proof for ${host} is not there`);
    order.proven.add(host);
    this.send(response, 200, { type: kind, status: 'valid', token: order.token, url: this.base + '/' });
  }

  private async finalize(
    response: ServerResponse,
    order: Order,
    { csr = '' }: { csr?: string },
  ): Promise<void> {
    const wanted = new Pkcs10CertificateRequest(Buffer.from(csr, 'base64url'));
    const named = wanted.extensions.find(one => one instanceof SubjectAlternativeNameExtension);
    const names = named?.names.items.map(({ value }) => value) ?? [];
    const isReady = order.hosts.every(host => order.proven.has(host));
    const isSame = names.length === order.hosts.length && names.every(name => order.hosts.includes(name));
    if (!isReady || !isSame || !(await wanted.verify()))
      return this.refuse(response, 403, 'badCSR', 'the request is not for the names that are proven');
    const publicKey = await wanted.publicKey.export();
    const given = await this.issue(
      publicKey,
      names.map(value => ({ type: 'dns' as const, value })),
    );
    const { root } = await this.authority;
    order.certificate = `${given.toString('pem')}\n${root.toString('pem')}\n`;
    this.send(response, 200, this.shown(order));
  }

  private send(response: ServerResponse, status: number, body: unknown): void {
    response.writeHead(status, { 'content-type': 'application/json' }).end(JSON.stringify(body));
  }

  private refuse(response: ServerResponse, status: number, type: string, detail: string): void {
    const problem = { type: `urn:ietf:params:acme:error:${type}`, detail, status };
    response.writeHead(status, { 'content-type': 'application/problem+json' }).end(JSON.stringify(problem));
  }
}

async function makeAuthority(): Promise<{ root: X509Certificate; keys: webcrypto.CryptoKeyPair }> {
  const keys = (await webcrypto.subtle.generateKey(algorithm, true, [
    'sign',
    'verify',
  ])) as webcrypto.CryptoKeyPair;
  const root = await X509CertificateGenerator.createSelfSigned({
    serialNumber: randomBytes(8).toString('hex'),
    name: 'CN=Stand-in authority of the demo',
    notBefore: new Date(Date.now() - day),
    notAfter: new Date(Date.now() + 365 * day),
    signingAlgorithm: algorithm,
    keys,
    extensions: [new BasicConstraintsExtension(true, undefined, true)],
  });
  return { root, keys };
}
