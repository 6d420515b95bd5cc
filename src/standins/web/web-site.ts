import { randomBytes } from 'node:crypto';
import { readFile } from 'node:fs/promises';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { extname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { bytesOf, textOf } from '../../core/bytes.js';
import { staysInside } from '../../core/files/entries.js';
import { type Facts, oneFile } from '../../core/site/configuration/source/facts.js';
import { wordpress } from '../../core/site/families/wordpress.js';
import type { StandinDatabase } from '../database.js';
import type { HatchReply } from '../hatch/hatch.js';
import { rewrite } from './htaccess.js';
import { robotsTxt, sitePart } from './site-parts.js';
import { drawPage, siteContent } from './web-pages.js';

const types: Record<string, string> = {
  '.css': 'text/css',
  '.png': 'image/png',
  '.txt': 'text/plain',
  '.js': 'text/javascript',
  '.html': 'text/html',
};

/**
 * Serves a site from its folder, its configuration and its database as a real web server and CMS would, on a free
 * loopback port. It fails as they do: wrong credentials show the connection error, a wrong prefix the
 * installation page, and another home address sends visitors there. No code of the site is run.
 */
export class StandinWebSite {
  /** What its language says of itself. May be changed to another host's. */
  language: Readonly<Record<string, unknown>> = usualLanguage;
  /** Answers for the hatches and probes that are put there, for no PHP runs. */
  hatches: { answer(name: string, body: Buffer): Promise<HatchReply | undefined> } | undefined;
  /** Who may log in; nobody where this is left out. */
  keeper: { readonly user: string; readonly password: string } | undefined;
  private session: string | undefined;
  private readonly folder: string;
  private readonly mount: string;
  private readonly database: StandinDatabase;
  private readonly server = createServer((request, response) => {
    response.setHeader('server', 'stand-in');
    this.answer(request, response).catch(error => {
      response.writeHead(500, { 'content-type': 'text/plain' }).end(String(error));
    });
  });

  /** @param mount the path at which the folder is served, without a closing slash; empty for the root */
  constructor(folder: string, mount: string, database: StandinDatabase) {
    this.folder = folder;
    this.mount = mount;
    this.database = database;
  }

  /** Starts to listen; gives the address at which it can be reached. */
  async listen(port = 0): Promise<string> {
    await new Promise<void>((resolve, reject) => {
      this.server.once('error', reject).listen(port, '127.0.0.1', resolve);
    });
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
  }

  async close(): Promise<void> {
    this.server.closeAllConnections();
    await new Promise(resolve => this.server.close(resolve));
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    await this.database.refresh();
    if (await this.rewrites(request, response)) return;
    if (await this.isClosed(request)) return this.html(response, 403, forbidden);
    const url = new URL(request.url ?? '/', 'http://stand-in');
    if (url.pathname === '/robots.txt') return this.robots(request, response);
    if (url.pathname !== this.mount && !url.pathname.startsWith(`${this.mount}/`))
      return this.html(response, 404, notFound);
    const path = decodeURIComponent(url.pathname.slice(this.mount.length + 1));
    const hatch = /^(p[\da-f]{32})\.php$/.exec(path)?.[1];
    if (hatch !== undefined && this.hatches) return this.hatch(this.hatches, hatch, request, response);
    if (path === 'wp-login.php' && request.method === 'POST') return this.logIn(request, response);
    if (/^able-porter-probe-[0-9a-f]+\.php$/.test(path)) return this.probe(response, path);
    if (/\.(?:css|png|txt|js|html)$/.test(path)) return this.file(request, response, path);
    const facts = await this.facts();
    if (!facts) return this.html(response, 500, notFound);
    if (!this.database.accepts(facts)) return this.html(response, 500, connectionError);
    if (!this.database.has(`${facts.prefix}options`)) {
      if (path === 'wp-admin/install.php') return this.html(response, 200, installation);
      response.writeHead(302, { location: `${this.mount}/wp-admin/install.php` }).end();
      return;
    }
    const content = siteContent(this.database, facts.prefix);
    const home = new URL(content.home);
    const homePath = home.pathname.replace(/\/$/, '');
    if (request.headers.host !== home.host || homePath !== this.mount) {
      response.writeHead(301, { location: `${content.home}/${path}${url.search}` }).end();
      return;
    }
    const id = url.searchParams.get('p') ?? url.searchParams.get('page_id');
    const post = path === '' && id !== null ? content.posts.find(({ ID }) => ID === id) : undefined;
    if (post) {
      response.writeHead(301, { location: `${content.home}/${post.post_name}/` }).end();
      return;
    }
    const part = sitePart(content, path);
    if (part) return this.send(request, response, 200, part.type, part.body);
    if (path.replace(/\/$/, '') === 'wp-admin' && !this.isLoggedIn(request)) {
      response.writeHead(302, { location: `${content.site}/wp-login.php?redirect_to=wp-admin` }).end();
      return;
    }
    if (path === 'wp-login.php' && url.searchParams.get('action') === 'logout') this.session = undefined;
    const drawn = drawPage(content, path.replace(/\/$/, ''), url.search);
    response.setHeader('x-content-type-options', 'nosniff');
    response.setHeader('link', `<${content.home}/wp-json/>; rel="https://api.w.org/"`);
    this.send(request, response, drawn === undefined ? 404 : 200, htmlType, drawn ?? notFound);
  }

  /** Follows the redirects in the site's `.htaccess`. */
  private async rewrites(request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const read = (folder: string) =>
      staysInside(folder || 'x')
        ? readFile(join(this.folder, folder, '.htaccess'), 'latin1').catch(() => undefined)
        : Promise.resolve(undefined);
    const rewritten = await rewrite(
      {
        method: request.method ?? 'GET',
        host: request.headers.host ?? '',
        uri: request.url ?? '/',
        isSecure: request.headers['x-forwarded-proto'] === 'https',
      },
      read,
      this.mount,
    );
    if (!rewritten) return false;
    const { status, location } = rewritten;
    response.writeHead(status, location === undefined ? {} : { location }).end();
    return true;
  }

  /** Whether a folder on the way is closed to visitors, by a rule that is not within a section. */
  private async isClosed({ url = '/' }: IncomingMessage): Promise<boolean> {
    const path = decodeURIComponent(new URL(url, 'http://stand-in').pathname).slice(this.mount.length + 1);
    const folders = path.split('/').map((_, i, parts) => parts.slice(0, i).join('/'));
    if (!staysInside(path || 'x')) return false;
    const rules = folders.map(folder =>
      readFile(join(this.folder, folder, '.htaccess'), 'latin1').catch(() => ''),
    );
    return (await Promise.all(rules)).some(rule => /^Require all denied$/m.test(withoutSections(rule)));
  }

  private async robots(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const facts = await this.facts();
    if (!facts || !this.database.accepts(facts) || !this.database.has(`${facts.prefix}options`))
      return this.html(response, 404, notFound);
    const { type, body } = robotsTxt(siteContent(this.database, facts.prefix), this.mount);
    this.send(request, response, 200, type, body);
  }

  /** Lets the keeper in, with a cookie for this site. */
  private async logIn(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk);
    const form = new URLSearchParams(Buffer.concat(chunks).toString());
    const { keeper } = this;
    if (!keeper || form.get('log') !== keeper.user || form.get('pwd') !== keeper.password)
      return this.html(response, 200, wrongPassword);
    this.session = randomBytes(16).toString('hex');
    const cookie = `keeper=${this.session}; Path=${this.mount}/; HttpOnly`;
    response.writeHead(302, { location: `${this.mount}/wp-admin/`, 'set-cookie': cookie }).end();
  }

  private isLoggedIn({ headers }: IncomingMessage): boolean {
    return (
      this.session !== undefined && (headers.cookie ?? '').split('; ').includes(`keeper=${this.session}`)
    );
  }

  private async hatch(
    hatches: NonNullable<StandinWebSite['hatches']>,
    name: string,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<void> {
    const chunks: Buffer[] = [];
    for await (const chunk of request) chunks.push(chunk);
    const reply = await hatches.answer(name, Buffer.concat(chunks));
    if (!reply) return this.html(response, 404, notFound);
    response.writeHead(reply.status, { 'content-type': reply.type }).end(reply.body);
  }

  /** Answers a probe as the language would that a real host runs; the file itself is only looked for. */
  private async probe(response: ServerResponse, path: string): Promise<void> {
    const there = await readFile(join(this.folder, path)).then(
      () => true,
      () => false,
    );
    if (!there) return this.html(response, 404, notFound);
    const now = Math.round(Date.now() / 1000);
    response
      .writeHead(200, { 'content-type': 'application/json' })
      .end(JSON.stringify({ ...this.language, now, folder: this.folder }));
  }

  private async facts(): Promise<
    { name: string; user: string; password: string; prefix: string } | undefined
  > {
    let facts: Facts | undefined;
    try {
      const source = bytesOf(await readFile(join(this.folder, 'wp-config.php')));
      facts = wordpress.readConfiguration(oneFile('wp-config.php', source))?.facts;
    } catch {
      return undefined;
    }
    const text = (name: 'name' | 'user' | 'password' | 'prefix') => textOf(facts?.[name]?.value ?? '');
    return { name: text('name'), user: text('user'), password: text('password'), prefix: text('prefix') };
  }

  private async file(request: IncomingMessage, response: ServerResponse, path: string): Promise<void> {
    try {
      if (!staysInside(path)) throw new Error('outside');
      const content = await readFile(join(this.folder, path));
      response.setHeader('cache-control', 'max-age=3600');
      this.send(request, response, 200, types[extname(path)] ?? 'application/octet-stream', content);
    } catch {
      this.html(response, 404, notFound);
    }
  }

  /** Compresses what is text, where the browser takes that. */
  private send(
    request: IncomingMessage,
    response: ServerResponse,
    status: number,
    type: string,
    body: string | Buffer,
  ): void {
    response.setHeader('content-type', type);
    const packs = /^text|json|xml/.test(type) && /\bgzip\b/.test(String(request.headers['accept-encoding']));
    if (packs) response.setHeader('content-encoding', 'gzip');
    response.writeHead(status).end(packs ? gzipSync(body) : body);
  }

  private html(response: ServerResponse, status: number, html: string): void {
    response.writeHead(status, { 'content-type': 'text/html; charset=utf-8' }).end(html);
  }
}

/** What the language at a stand-in host says of itself. */
const usualLanguage = {
  probe: 1,
  version: '8.2.20',
  extensions: ['Core', 'json', 'mysqli', 'mbstring', 'gd', 'xml'],
  memory: '256M',
  upload: '64M',
  post: '64M',
  time: '30',
  free: 40_000_000_000,
};

/** Rules of a web server that hold for all of a folder. */
function withoutSections(rules: string): string {
  return rules.replace(/^[ \t]*<(\w+)[\s\S]*?^[ \t]*<\/\1>/gm, '');
}

const htmlType = 'text/html; charset=utf-8';
const wrongPassword =
  '<!doctype html><title>Log In</title><p>Error: the password is incorrect.</p><form method="post"><input name="log"><input name="pwd" type="password"></form>';
const notFound = '<!doctype html><title>Page not found</title><h1>Page not found</h1>';
const forbidden = '<!doctype html><title>403 Forbidden</title><h1>Forbidden</h1>';
const connectionError =
  '<!doctype html><title>Database Error</title><h1>Error establishing a database connection</h1>';
const installation =
  '<!doctype html><title>Site › Installation</title><h1>Welcome</h1><p>Please provide the following information.</p>';
