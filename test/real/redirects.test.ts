import assert from 'node:assert/strict';
import { mkdirSync, symlinkSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { type TestContext, test } from 'node:test';
import fc from 'fast-check';
import type { DialectFile } from '../../src/core/redirects/dialects/dialect.js';
import { dialects } from '../../src/core/redirects/dialects/dialects.js';
import { redirector } from '../../src/core/redirects/redirect-of.js';
import type { RedirectRequest, RedirectSet } from '../../src/core/redirects/redirect-set.js';
import { effort } from '../help/effort.js';
import { needs } from '../help/real.js';
import { requests, setOf, sets, type WrittenSet } from '../help/redirect-sets.js';
import {
  ask,
  htdocsWith,
  type RedirectServer,
  startApache,
  startCaddy,
  startNginx,
  startPhp,
} from './web-servers.js';

/** What a server refuses before any rule is asked, or changes itself. */
const cannot: Record<string, (request: RedirectRequest) => boolean> = {
  // It looks for a file first, whose name may not be so long. It decodes the path: an encoded slash or NUL is not found, an encoding that is none is wrong, and so is a way above the root.
  apache: ({ uri }) =>
    /[^/?]{240}|%2f|%3f|%00|%(?![0-9a-f]{2})|\?$|["<>\\^`{}|[\]]|\.\.|[^\x21-\x7E]/i.test(uri),
  nginx: ({ uri }) => /%00|%(?![0-9a-f]{2})|\.\./i.test(uri.split('?')[0]!),
  // Its language refuses what is no URL.
  caddy: ({ uri }) => /%(?![0-9a-f]{2})|[^\x21-\x7E]/i.test(uri),
  // It closes the connection at a byte beyond ASCII, and reads two slashes as a host.
  php: ({ uri }) => /[^\x21-\x7E]|^\/\/|["<>^`{}|[\]]/.test(uri),
};

function filesOf(name: string, set: RedirectSet): readonly DialectFile[] {
  return dialects.find(one => one.name === name)!.files(set, []);
}

/** Compares the answers of a server with those of the function, for one set after the other. */
async function tryAll(
  t: TestContext,
  name: string,
  start: (files: readonly DialectFile[], written: WrittenSet) => Promise<RedirectServer>,
): Promise<void> {
  const perSet = 60;
  const all = effort(1_400, 5_000);
  const seed = Number(process.env.ABLE_PORTER_SEED ?? Date.now() % 2 ** 31);
  t.diagnostic(`seed ${seed}`);
  const fewest = Math.ceil(all / perSet);
  // Where chance gave hardly any of a kind, it goes on.
  const some = fc.sample(sets(), { seed, numRuns: fewest * 3 });
  const by: Record<string, number> = {};
  const kinds = ['single', 'rule', 'same path', 'none'];
  for (const [i, written] of some.entries()) {
    if (i >= fewest && kinds.every(kind => (by[kind] ?? 0) > all / 50)) break;
    const set = setOf(written);
    const answers = redirector(set);
    const server = await start(filesOf(name, set), written);
    try {
      for (const request of fc.sample(requests(written), { seed, numRuns: perSet })) {
        if (cannot[name]!(request)) continue;
        const wanted = answers(request);
        const said = await ask(server.port, request);
        const which = `${request.method} ${request.host} ${request.uri} with ${JSON.stringify({ ...written, singles: written.singles?.slice(0, 12) })}`;
        if (wanted) assert.equal(said, `${wanted.status} ${wanted.target ?? ''}`.trim(), which);
        else assert.doesNotMatch(said, /^(?:30\d https?:|410)/, which);
        const kind = wanted?.by.kind ?? 'none';
        by[kind] = (by[kind] ?? 0) + 1;
      }
    } finally {
      await server.stop();
    }
  }
  t.diagnostic(`answered by ${JSON.stringify(by)}`);
  for (const kind of kinds) assert.ok((by[kind] ?? 0) > all / 50, `hardly any by ${kind}`);
}

test('nginx answers as the function does', { timeout: 600_000 }, async t => {
  if (!needs(t, 'nginx')) return;
  await tryAll(t, 'nginx', files => startNginx(t, files));
});

test('Apache answers as the function does, from an .htaccess', { timeout: 600_000 }, async t => {
  if (!needs(t, 'apache2')) return;
  await tryAll(t, 'apache', (files, { old }) => startApache(t, servedAt(htdocsWith(t, files), old)));
});

/** Serves a folder under the path of an address too. */
function servedAt(htdocs: string, old: string): string {
  const path = join(htdocs, decodeURIComponent(new URL(old).pathname));
  if (path !== join(htdocs, '/')) {
    mkdirSync(dirname(path), { recursive: true });
    symlinkSync(htdocs, path);
  }
  return htdocs;
}

test('Caddy answers as the function does', { timeout: 600_000 }, async t => {
  if (!needs(t, 'caddy')) return;
  await tryAll(t, 'caddy', files => startCaddy(t, files));
});

test('PHP answers as the function does, from a front file', { timeout: 600_000 }, async t => {
  if (!needs(t, 'php')) return;
  await tryAll(t, 'php', files => startPhp(t, files));
});

const request = (uri: string, method = 'GET', host = 'old.example'): RedirectRequest => ({
  method,
  scheme: 'http',
  host,
  uri,
});

/** Rules of a CMS, as it writes them into its own folder. */
const ownRules = (base: string) => `<IfModule mod_rewrite.c>
RewriteEngine On
RewriteBase ${base}
RewriteRule ^index\\.php$ - [L]
RewriteCond %{REQUEST_FILENAME} !-f
RewriteCond %{REQUEST_FILENAME} !-d
RewriteRule . ${base}index.php [L]
</IfModule>
`;

test('in a folder with the rules of the CMS, the redirects of Apache come first', async t => {
  if (!needs(t, 'apache2')) return;
  const set = setOf({ old: 'https://old.example/site', to: 'https://new.example' });
  const answers = redirector(set);
  const htdocs = htdocsWith(t, filesOf('apache', set), 'site', ownRules('/site/'));
  mkdirSync(join(htdocs, 'site/wp-content'));
  writeFileSync(join(htdocs, 'site/index.php'), 'the CMS');
  writeFileSync(join(htdocs, 'site/wp-content/boat.png'), 'a boat');
  const { port, stop } = await startApache(t, htdocs, { modules: ['dir'] });
  t.after(stop);
  const pages = [
    '',
    '/',
    '/?p=12',
    '/a/b/',
    '/wp-content/boat.png',
    '/wp-content',
    '/index.php?a',
    '/caf%C3%A9/',
    '/a%20b',
  ];
  for (const uri of pages.map(path => `/site${path}`))
    for (const method of ['GET', 'POST']) {
      const { status, target } = answers(request(uri, method))!;
      assert.equal(await ask(port, request(uri, method)), `${status} ${target}`, `${method} ${uri}`);
    }
  assert.match(await ask(port, request('/other')), /^404/);
});

for (const singles of [3, 700])
  test(`at an address that stays, ${singles} pages are redirected and all others reach the CMS, in PHP and with virtual hosts`, async t => {
    if (!needs(t, 'apache2', 'php')) return;
    const set = setOf({
      old: 'http://old.example/site',
      to: 'http://old.example/site',
      singles: [
        ['/café/', '/boats/'],
        ['/?p=12', '/tides/'],
        ...Array.from({ length: singles }, (_, i) => [`/entry-${i}/`, `/log/${i}/`] as const),
      ],
      rules: [{ from: '/:year(\\d{4})/:slug/', to: '/:slug/' }],
    });
    const htdocs = htdocsWith(t, filesOf('apache', set), 'site', ownRules('/site/'));
    const other = htdocsWith(t, [{ path: 'x', text: '' }]);
    writeFileSync(
      join(htdocs, 'site/index.php'),
      '<?php header("Location: ran " . $_SERVER["REQUEST_URI"]);',
    );
    writeFileSync(join(htdocs, 'site/boat.txt'), 'a boat');
    const { port, stop } = await startApache(t, htdocs, {
      modules: ['dir', 'php'],
      prefork: true,
      configuration: `DirectoryIndex index.php
<FilesMatch \\.php$>
SetHandler application/x-httpd-php
</FilesMatch>
<VirtualHost *>
ServerName other.example
DocumentRoot ${other}
<Directory ${other}>
Require all granted
</Directory>
</VirtualHost>
<VirtualHost *>
ServerName old.example
DocumentRoot ${htdocs}
</VirtualHost>
`,
    });
    t.after(stop);
    const led: Record<string, string> = {
      '/site/caf%c3%a9?x=1': '301 http://old.example/site/boats/?x=1',
      '/site/?p=12': '301 http://old.example/site/tides/',
      '/site/entry-2': '301 http://old.example/site/log/2/',
      [`/site/entry-${singles - 1}/?a`]: `301 http://old.example/site/log/${singles - 1}/?a`,
      '/site/2019/regatta': '301 http://old.example/site/regatta/',
      '/site/': '302 ran /site/',
      '/site/?p=13': '302 ran /site/?p=13',
      '/site/a%20b/c?d=e': '302 ran /site/a%20b/c?d=e',
      '/site/entry-9999/': '302 ran /site/entry-9999/',
      '/site/boat.txt': '200',
      '/site/able-porter-redirects/3/': singles > 100 ? '404' : '302 ran /site/able-porter-redirects/3/',
    };
    for (const [uri, wanted] of Object.entries(led)) {
      if (uri.includes('able-porter')) assert.doesNotMatch(await ask(port, request(uri)), /^(?:200|500)/);
      else assert.equal(await ask(port, request(uri)), wanted, uri);
    }
    assert.equal(await ask(port, request('/site/entry-2/', 'POST')), '308 http://old.example/site/log/2/');
    assert.match(await ask(port, request('/site/entry-2/', 'GET', 'other.example')), /^404/);
  });
