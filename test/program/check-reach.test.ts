import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer, type RequestListener } from 'node:http';
import { createServer as createTlsServer } from 'node:https';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { gzipSync } from 'node:zlib';
import { parseAddress } from '../../src/core/address/address.js';
import type { Finding } from '../../src/core/findings/findings.js';
import { WebSite } from '../../src/ends/http/web-site.js';
import { familyFindings } from '../../src/steps/check/site/address-families.js';
import type { StepRun } from '../../src/steps/move/step.js';
import { folder, run } from '../help/program.js';

const [oldAddress, newAddress] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'];
const page = (base: string, more = '') =>
  `<!doctype html><html lang="en"><head><title>Club</title></head><body><nav><a href="${base}/">Home</a> <a href="${base}/crew/">Crew</a></nav><p>Low water at six.</p>${more}</body></html>`;
/** A site of two pages. */
const site =
  (base: string, more = ''): RequestListener =>
  ({ url }, response) => {
    const path = url!.slice(new URL(base).pathname.replace(/\/$/, '').length);
    response.setHeader('content-type', 'text/html; charset=utf-8');
    if (path === '/' || path === '/crew/') response.end(page(base, more));
    else response.writeHead(404).end('<h1>Not here</h1>');
  };

async function listening(
  t: TestContext,
  listener: RequestListener,
  host = '127.0.0.1',
  port = 0,
  tls?: { key: Buffer; cert: Buffer },
): Promise<number> {
  const server = tls ? createTlsServer(tls, listener) : createServer(listener);
  await new Promise<void>((resolve, reject) => server.once('error', reject).listen(port, host, resolve));
  t.after(() => {
    server.closeAllConnections();
    server.close();
  });
  return (server.address() as AddressInfo).port;
}

/** Moves two files, and checks the pages. @param sheet is added to the ends and below */
async function checked(
  t: TestContext,
  { old, next, more = '' }: { old: string; next: string; more?: string },
) {
  const root = folder(t);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  writeFileSync(join(root, 'old/index.html'), '<h1>Club</h1>');
  writeFileSync(
    join(root, 'move/move.yaml'),
    `name: club\nold: { address: ${oldAddress}, files: ../old, ${old} }\nnew: { address: ${newAddress}, files: ../new, ${next} }\ntake: { database: false }\n${more}`,
  );
  const cwd = join(root, 'move');
  for (const step of ['pack', 'rewrite', 'deliver'])
    assert.equal((await run([step, '--yes'], { cwd })).code, 0);
  const shown = await run(['check'], { cwd });
  const { stdout, stderr } = await run(['check', '--json'], { cwd });
  assert.ok(stdout.startsWith('{'), stderr);
  const { findings, result } = JSON.parse(stdout) as {
    findings: Finding[];
    result: { pages: { path: string; verdict: string }[] };
  };
  return { findings, pages: result.pages, shown: shown.stdout + shown.stderr };
}

function certificate(root: string): { key: Buffer; cert: Buffer } {
  const [key, cert] = [join(root, 'key.pem'), join(root, 'cert.pem')];
  execFileSync(
    'openssl',
    [
      'req',
      '-x509',
      '-newkey',
      'ec',
      '-pkeyopt',
      'ec_paramgen_curve:prime256v1',
      '-nodes',
      '-keyout',
      key,
      '-out',
      cert,
      '-days',
      '30',
      '-subj',
      '/CN=another.example',
    ],
    { stdio: 'ignore' },
  );
  return { key: readFileSync(key), cert: readFileSync(cert) };
}

test('a host that forces HTTPS with a certificate of another name: its pages are compared, and that is said once', async t => {
  const old = await listening(t, site(oldAddress));
  const asked: string[] = [];
  const secure = await listening(
    t,
    (request, response) => {
      asked.push(request.headers.host!);
      site(newAddress)(request, response);
    },
    '127.0.0.1',
    0,
    certificate(folder(t)),
  );
  const plain = await listening(t, ({ url }, response) => {
    response.writeHead(301, { location: newAddress + url }).end();
  });
  const reach = {
    old: `reach: "http://127.0.0.1:${old}"`,
    next: `reach: "http://127.0.0.1:${plain}", reach-https: "https://127.0.0.1:${secure}"`,
  };
  const { findings, pages } = await checked(t, reach);
  assert.deepEqual(
    pages.map(({ path, verdict }) => `${path} ${verdict}`),
    ['/ same', '/crew/ same'],
  );
  const codes = findings.map(({ code }) => code);
  assert.deepEqual(codes.filter(code => code === 'https-forced').length, 1);
  assert.ok(codes.filter(code => code === 'certificate-of-new-site').length >= 1, codes.join());
  assert.ok(
    asked.every(host => host === 'saltmarshrowing.example' || host === 'www.saltmarshrowing.example'),
    [...new Set(asked)].join(),
  );
});

test('a host that wants HTTPS and has none is a loop, not a failure of the check', async t => {
  const old = await listening(t, site(oldAddress));
  const plain = await listening(t, ({ url }, response) => {
    response.writeHead(301, { location: newAddress + url }).end();
  });
  const { findings } = await checked(t, {
    old: `reach: "http://127.0.0.1:${old}"`,
    next: `reach: "http://127.0.0.1:${plain}", reach-https: "https://127.0.0.1:1"`,
  });
  assert.ok(
    findings.some(({ code, level }) => code === 'page-redirect-loop' && level === 'stop'),
    JSON.stringify(findings),
  );
});

test('a site that answers differently over IPv4 and IPv6', async t => {
  const four = await listening(t, site(newAddress));
  try {
    await listening(t, (_, response) => response.end('<title>Parked</title>'), '::1', four);
  } catch {
    return t.skip('this machine has no IPv6');
  }
  const sheet = { new: { reach: `http://web.saltmarsh.test:${four}` } };
  const run = { signal: AbortSignal.timeout(60_000), move: { sheet } } as unknown as StepRun;
  const of = (six: string) =>
    familyFindings(run, { new: new WebSite(parseAddress(newAddress)), address: newAddress }, async () => [
      { address: '127.0.0.1', family: 4 },
      { address: six, family: six.includes(':') ? 6 : 4 },
    ]);
  const [found] = await of('::1');
  assert.match(found?.what ?? '', /IPv4 \(127\.0\.0\.1: 200, “Club”\).*IPv6 \(::1: 200, “Parked”\)/);
  assert.deepEqual(await of('127.0.0.1'), []);
});

test('a hostile site does no harm, and nobody else is asked', { timeout: 240_000 }, async t => {
  let trapped = 0;
  const trap = await listening(t, (_, response) => {
    trapped++;
    response.end('trap');
  });
  const bomb = gzipSync(Buffer.alloc(300 * 1024 * 1024));
  const hostile =
    (base: string): RequestListener =>
    (request, response) => {
      const path = request.url!.slice(new URL(base).pathname.replace(/\/$/, '').length);
      response.setHeader('content-type', 'text/html; charset=utf-8');
      const redirect = (location: string) => response.writeHead(302, { location }).end();
      switch (path) {
        case '/':
          return void response.end(
            page(
              base,
              `<title>\u001b[31mred\u0007</title>${['/endless/', '/bomb/', '/port/', '/inside/', '/loop/a/', '/longer/', '/file/'].map(to => `<a href="${base}${to}">x</a>`).join('')}<a href="http://127.0.0.1:${trap}/">y</a>${Array.from({ length: 10_000 }, (_, i) => `<a href="${base}/many/${i}/">z</a>`).join('')}<img src="http://127.0.0.1:${trap}/i.png"><script src="//127.0.0.1:${trap}/a.js"></script>`,
            ),
          );
        case '/endless/': {
          const pour = (): void => {
            if (!response.destroyed) response.write('<p>more</p>'.repeat(10_000), pour);
          };
          return pour();
        }
        case '/bomb/':
          return void response.writeHead(200, { 'content-encoding': 'gzip' }).end(bomb);
        case '/port/':
          return void redirect(`http://${new URL(base).host}:${trap}/`);
        case '/inside/':
          return void redirect(`http://127.0.0.1:${trap}/`);
        case '/file/':
          return void redirect('file:///etc/passwd');
        case '/longer/':
          return void redirect(`${base}/${'a'.repeat(100_000)}`);
        default:
          if (path.startsWith('/loop/'))
            return void redirect(`${base}/loop/${path.includes('/a/') ? 'b' : 'a'}/`);
          return void response.end(page(base));
      }
    };
  const [old, next] = [await listening(t, hostile(oldAddress)), await listening(t, hostile(newAddress))];
  const { pages, shown } = await checked(t, {
    old: `reach: "http://127.0.0.1:${old}"`,
    next: `reach: "http://127.0.0.1:${next}"`,
    more: 'check: { pages: 25 }\n',
  });
  assert.equal(trapped, 0);
  assert.equal(pages.length, 25);
  assert.doesNotMatch(shown, /\u001b\[31mred|\u0007/);
});

test('an interrupted check resumes where it was', async t => {
  const root = folder(t);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  writeFileSync(join(root, 'old/index.html'), '<h1>Club</h1>');
  let asked = 0;
  const many =
    (base: string): RequestListener =>
    (request, response) => {
      asked++;
      const links = Array.from({ length: 40 }, (_, i) => `<a href="${base}/crew/${i}/">Crew</a>`).join('');
      setTimeout(
        () =>
          site(base, links)(
            { ...request, url: new URL(base).pathname.replace(/\/$/, '') + '/' } as never,
            response,
          ),
        40,
      );
    };
  const [old, next] = [await listening(t, many(oldAddress)), await listening(t, many(newAddress))];
  const cwd = join(root, 'move');
  writeFileSync(
    join(cwd, 'move.yaml'),
    `name: club\nold: { address: ${oldAddress}, files: ../old, reach: "http://127.0.0.1:${old}" }\nnew: { address: ${newAddress}, files: ../new, reach: "http://127.0.0.1:${next}" }\ntake: { database: false }\ncheck: { at-once: 2 }\n`,
  );
  for (const step of ['pack', 'rewrite', 'deliver'])
    assert.equal((await run([step, '--yes'], { cwd })).code, 0);
  const seen = join(cwd, 'results/pages-seen.ndjson');
  const lines = () => (existsSync(seen) ? readFileSync(seen, 'utf8').split('\n').length - 2 : 0);
  const first = await run(['check'], { cwd, interruptWhen: () => lines() >= 15 });
  assert.equal(first.code, 130, first.stderr);
  const kept = lines();
  asked = 0;
  const second = await run(['check', '--json'], { cwd });
  const { pages } = JSON.parse(second.stdout).result as { pages: { path: string; verdict: string }[] };
  assert.equal(pages.length, 42);
  assert.ok(
    pages.every(({ verdict }) => verdict === 'same'),
    JSON.stringify(pages),
  );
  assert.ok(kept >= 15 && asked < 3 * (42 - kept) + 40, `${kept} kept, ${asked} asked`);
  assert.equal(existsSync(seen), false);
});
