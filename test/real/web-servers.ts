import { spawn } from 'node:child_process';
import { chmodSync, mkdirSync, readdirSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { dirname, join } from 'node:path';
import type { TestContext } from 'node:test';
import type { DialectFile } from '../../src/core/redirects/dialects/dialect.js';
import type { RedirectRequest } from '../../src/core/redirects/redirect-set.js';
import { folder } from '../help/program.js';
import { freePort, listens, until } from './database.js';

/** A web server that answers by redirects alone. */
export interface RedirectServer {
  readonly port: number;
  stop(): Promise<void>;
}

/** Starts a program in the foreground that listens on a port. */
export async function start(
  command: string,
  args: string[],
  port: number,
  env = process.env,
): Promise<RedirectServer> {
  // A group of its own, so that its workers end with it.
  const server = spawn(command, args, { stdio: ['ignore', 'ignore', 'pipe'], env, detached: true });
  let said = '';
  server.stderr.on('data', chunk => {
    said = (said + chunk).slice(-1500);
  });
  const gone = new Promise<void>(resolve => server.once('exit', () => resolve()));
  const stop = async () => {
    server.kill('SIGTERM');
    await gone;
    try {
      process.kill(-server.pid!, 'SIGKILL');
    } catch {
      // Nobody of the group is left.
    }
  };
  await until(command, () => {
    if (server.exitCode !== null) throw new Error(`${command} ended at once: ${said}`);
    return listens(port);
  });
  return { port, stop };
}

/** Writes the files of a dialect below a folder. */
export function writeAll(root: string, files: readonly DialectFile[]): void {
  for (const { path, text } of files) {
    mkdirSync(dirname(join(root, path)), { recursive: true });
    writeFileSync(join(root, path), text, 'latin1');
  }
}

function openRoot(t: TestContext): string {
  const root = folder(t);
  chmodSync(root, 0o755);
  return root;
}

export async function startNginx(
  t: TestContext,
  files: readonly DialectFile[],
  more = '',
): Promise<RedirectServer> {
  const root = openRoot(t);
  writeAll(root, files);
  const map = files.some(({ path }) => path === 'redirects-map.conf')
    ? `include ${root}/redirects-map.conf;`
    : '';
  const port = await freePort();
  writeFileSync(
    join(root, 'nginx.conf'),
    `daemon off; pid ${root}/pid; error_log ${root}/error.log; worker_processes 1;
events {}
http { access_log off; client_body_temp_path ${root}/t; proxy_temp_path ${root}/t; fastcgi_temp_path ${root}/t; uwsgi_temp_path ${root}/t; scgi_temp_path ${root}/t;
${map}
server { listen 127.0.0.1:${port}; server_name old.example www.old.example tmp.old.example; root ${root}/none;
include ${root}/redirects.conf;
${more} } }`,
  );
  return start('nginx', ['-p', root, '-c', join(root, 'nginx.conf')], port);
}

/** How Apache is set up. */
export interface ApacheSetting {
  /** Modules beyond those that every host has. */
  readonly modules?: readonly string[];
  readonly configuration?: string;
  /** Workers that answer; a module that cannot be used by threads needs prefork. */
  readonly prefork?: boolean;
}

/** Starts Apache on a folder in which `.htaccess` files count. */
export async function startApache(
  t: TestContext,
  htdocs: string,
  { modules = [], configuration = '', prefork = false }: ApacheSetting = {},
): Promise<RedirectServer> {
  const root = openRoot(t);
  const port = await freePort();
  const all = [prefork ? 'mpm_prefork' : 'mpm_event', 'authz_core', 'rewrite', ...modules];
  const load = all.map(name => `LoadModule ${name}_module /usr/lib/apache2/modules/${moduleFile(name)}.so`);
  writeFileSync(
    join(root, 'apache.conf'),
    `ServerRoot ${root}\nServerName old.example\nListen 127.0.0.1:${port}\nPidFile ${root}/pid\nErrorLog ${root}/error.log\nUser www-data\nGroup www-data\n${load.join('\n')}
DocumentRoot ${htdocs}\n<Directory ${htdocs}>\nAllowOverride All\nRequire all granted\n</Directory>\n${configuration}`,
  );
  // As one process it answers one connection after the other.
  return start('apache2', [prefork ? '-DFOREGROUND' : '-X', '-f', join(root, 'apache.conf')], port);
}

function moduleFile(name: string): string {
  if (name !== 'php') return `mod_${name}`;
  return readdirSync('/usr/lib/apache2/modules')
    .find(file => /^libphp[\d.]*\.so$/.test(file))!
    .replace(/\.so$/, '');
}

/** A folder with the redirects in its `.htaccess`, before what is there. */
export function htdocsWith(t: TestContext, files: readonly DialectFile[], at = '', own = ''): string {
  const htdocs = openRoot(t);
  const [main, ...tables] = files;
  writeAll(join(htdocs, at), [{ path: '.htaccess', text: main!.text + own }, ...tables]);
  return htdocs;
}

export async function startCaddy(t: TestContext, files: readonly DialectFile[]): Promise<RedirectServer> {
  const root = openRoot(t);
  writeAll(root, files);
  const port = await freePort();
  const names = ['old', 'www.old', 'tmp.old'].map(name => `http://${name}.example:${port}`);
  writeFileSync(
    join(root, 'Caddyfile'),
    `{\n\tadmin off\n\tauto_https off\n}\n${names.join(', ')} {\n\tbind 127.0.0.1\n\timport ${root}/redirects.caddy\n\trespond 404\n}\n`,
  );
  const args = ['run', '--adapter', 'caddyfile', '--config', join(root, 'Caddyfile')];
  return start('caddy', args, port, { ...process.env, HOME: root });
}

export async function startPhp(
  t: TestContext,
  files: readonly DialectFile[],
  ...options: string[]
): Promise<RedirectServer> {
  const root = openRoot(t);
  writeAll(root, files);
  const port = await freePort();
  return start('php', [...options, '-S', `127.0.0.1:${port}`, join(root, 'index.php')], port);
}

/** What a server answers to a request line as it is, byte for byte: status and target. */
export function ask(port: number, { method, host, uri }: RedirectRequest): Promise<string> {
  return new Promise((resolve, reject) => {
    const head = `${method} ${uri} HTTP/1.1\r\nHost: ${host}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n`;
    const socket = connect(port, '127.0.0.1', () => socket.write(Buffer.from(head, 'latin1')));
    let said = '';
    socket.on('data', chunk => {
      said += chunk.toString('latin1');
    });
    socket.once('error', reject);
    socket.once('close', () => {
      const [, status] = /^HTTP\/1\.\d (\d+)/.exec(said) ?? [];
      const [, target] = /^location: (.*)\r$/im.exec(said) ?? [];
      resolve(status === undefined ? 'none' : `${status} ${target ?? ''}`.trim());
    });
  });
}
