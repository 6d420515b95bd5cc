import assert from 'node:assert/strict';
import { spawn } from 'node:child_process';
import { chmodSync, mkdirSync, writeFileSync } from 'node:fs';
import { request } from 'node:http';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { parseAddress } from '../../src/core/address/address.js';
import { type DialectName, dialects } from '../../src/core/redirects/dialects.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { freePort, listens, until } from './database.js';

/** Starts a web server in the foreground with a configuration, until the test ends. */
async function start(t: TestContext, command: string, args: string[], port: number): Promise<void> {
  const server = spawn(command, args, { stdio: 'ignore' });
  const gone = new Promise(resolve => server.once('exit', resolve));
  t.after(async () => {
    server.kill('SIGTERM');
    await gone;
  });
  await until(command, () => listens(port));
}

/** What a server says to a path as it is, for a host. */
function ask(port: number, host: string, path: string): Promise<string> {
  return new Promise((resolve, reject) => {
    request({ host: '127.0.0.1', port, path, headers: { host }, agent: false }, answer => {
      answer.resume();
      resolve(`${answer.statusCode} ${answer.headers.location ?? ''}`.trim());
    })
      .on('error', reject)
      .end();
  });
}

const subFolder = { from: parseAddress('https://old.example/site'), to: parseAddress('https://new.example') };
const wholeHost = { from: parseAddress('https://old.example'), to: parseAddress('https://new.example/shop') };
const inward = { from: parseAddress('https://old.example'), to: parseAddress('https://old.example/blog') };

const asked: [pair: typeof subFolder, path: string, answer: string | RegExp][] = [
  [subFolder, '/site/', '301 https://new.example/'],
  [subFolder, '/site/a/b/?p=1&q=x%20y', '301 https://new.example/a/b/?p=1&q=x%20y'],
  [subFolder, '/site/caf%C3%A9%20x/', '301 https://new.example/caf%c3%a9%20x/'],
  [subFolder, '/sitemap.xml', /^(?:404|403)/],
  [
    subFolder,
    '/site/x%0d%0aset-cookie:%20a=b',
    /^(?:301 https:\/\/new\.example\/x%0d%0aset-cookie:%20a=b|404|403|400)$/,
  ],
  [wholeHost, '/', '301 https://new.example/shop/'],
  [wholeHost, '/a?b', '301 https://new.example/shop/a?b'],
  [inward, '/a', '301 https://old.example/blog/a'],
  [inward, '/blog/a', /^(?:404|403)/],
];

async function tryAll(server: (rules: string, port: number) => Promise<void>, name: DialectName) {
  const dialect = dialects.find(one => one.name === name)!;
  for (const pair of [subFolder, wholeHost, inward]) {
    const port = await freePort();
    await server(dialect.samePath(pair.from, pair.to), port);
    for (const [of, path, answer] of asked) {
      if (of !== pair) continue;
      const said = (await ask(port, 'old.example', path)).replace(/%[0-9A-F]{2}/g, code =>
        code.toLowerCase(),
      );
      if (typeof answer === 'string') assert.equal(said, answer, path);
      else assert.match(said, answer, path);
    }
  }
}

test('nginx sends every old path to the same new path', async t => {
  if (!needs(t, 'nginx')) return;
  const root = folder(t);
  chmodSync(root, 0o755);
  await tryAll(async (rules, port) => {
    const config = join(root, `nginx-${port}.conf`);
    writeFileSync(
      config,
      `daemon off; pid ${root}/${port}.pid; error_log ${root}/error.log; worker_processes 1;
events {}
http { access_log off; client_body_temp_path ${root}/t; proxy_temp_path ${root}/t; fastcgi_temp_path ${root}/t; uwsgi_temp_path ${root}/t; scgi_temp_path ${root}/t;
server { listen 127.0.0.1:${port}; server_name old.example; root ${root}/none;\n${rules}} }`,
    );
    await start(t, 'nginx', ['-p', root, '-c', config], port);
  }, 'nginx');
});

test('Apache sends every old path to the same new path, from an .htaccess', async t => {
  if (!needs(t, 'apache2')) return;
  const root = folder(t);
  chmodSync(root, 0o755);
  await tryAll(async (rules, port) => {
    const htdocs = join(root, `htdocs-${port}`);
    mkdirSync(htdocs);
    writeFileSync(join(htdocs, '.htaccess'), rules);
    const config = join(root, `apache-${port}.conf`);
    const modules = ['mpm_event', 'authz_core', 'rewrite'].map(
      name => `LoadModule ${name}_module /usr/lib/apache2/modules/mod_${name}.so`,
    );
    writeFileSync(
      config,
      `ServerRoot ${root}\nServerName old.example\nListen 127.0.0.1:${port}\nPidFile ${root}/${port}.pid\nErrorLog ${root}/error.log\nUser www-data\nGroup www-data\n${modules.join('\n')}
DocumentRoot ${htdocs}\n<Directory ${htdocs}>\nAllowOverride All\nRequire all granted\n</Directory>\n`,
    );
    await start(t, 'apache2', ['-X', '-f', config], port);
  }, 'apache');
});

test('Caddy sends every old path to the same new path', async t => {
  if (!needs(t, 'caddy')) return;
  const root = folder(t);
  await tryAll(async (rules, port) => {
    const config = join(root, `Caddyfile-${port}`);
    writeFileSync(
      config,
      `{\n\tadmin off\n\tauto_https off\n}\nhttp://old.example:${port} {\n\tbind 127.0.0.1\n${rules}\n\trespond 404\n}\n`,
    );
    await start(t, 'caddy', ['run', '--adapter', 'caddyfile', '--config', config], port);
  }, 'caddy');
});
