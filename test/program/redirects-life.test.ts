import assert from 'node:assert/strict';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { gzipSync } from 'node:zlib';
import { rewrite } from '../../src/standins/web/htaccess.js';
import { folder, run } from '../help/program.js';

const [oldAddress, newAddress] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'];
const page = (title: string, text = '') =>
  `<!doctype html><html><head><title>${title} – Club</title></head><body><p>${text}</p></body></html>`;
type Site = Record<string, string | { readonly to: string; readonly status: number }>;

/** A site of a few pages, whose `.htaccess` is followed. @param files its folder */
async function site(
  t: TestContext,
  pages: Site,
  address: string,
  files?: string,
): Promise<{ port: number; failing: { with?: number } }> {
  const mount = new URL(address).pathname.replace(/\/$/, '');
  const failing: { with?: number } = {};
  const server = createServer(async (request, response) => {
    if (failing.with !== undefined && existsSync(join(files!, '.htaccess')))
      return void response.writeHead(failing.with).end();
    const read = async (at: string) =>
      files && existsSync(join(files, at, '.htaccess'))
        ? readFileSync(join(files, at, '.htaccess'), 'latin1')
        : undefined;
    const asked = { method: request.method!, host: request.headers.host!, uri: request.url!, isSecure: true };
    const led = await rewrite(asked, read, mount);
    if (led)
      return void response
        .writeHead(led.status, led.location === undefined ? {} : { location: led.location })
        .end();
    const found = pages[request.url!.slice(mount.length)];
    if (found === undefined)
      return void response.writeHead(404, { 'content-type': 'text/html' }).end(page('Not here'));
    if (typeof found !== 'string') return void response.writeHead(found.status, { location: found.to }).end();
    response
      .writeHead(200, { 'content-type': found.startsWith('<?xml') ? 'application/xml' : 'text/html' })
      .end(found);
  });
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
  t.after(() => {
    server.closeAllConnections();
    server.close();
  });
  return { port: (server.address() as AddressInfo).port, failing };
}

const own = 'Options -Indexes\r\n# the club’s own\r\n';
const sitemap = (...paths: string[]) =>
  `<?xml version="1.0"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">${paths.map(path => `<url><loc>${path}</loc></url>`).join('')}</urlset>`;

async function club(t: TestContext, more = '') {
  const root = folder(t);
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  writeFileSync(join(root, 'old/.htaccess'), own);
  const text = 'Forty two kilometres with the tide and eleven boats, no complaints worth printing';
  const pages: Site = {
    '/': `${page('Club')}<a href="${oldAddress}/linked/">x</a>`,
    '/sitemap.xml': sitemap(`${oldAddress}/`, `${oldAddress}/tide/`, `${oldAddress}/estuary-marathon/`),
    '/tide/': page('Tide'),
    '/linked/': page('Linked'),
    '/estuary-marathon/': page('Estuary marathon', text),
    '/old-tide/': { to: `${oldAddress}/tide/`, status: 301 },
    '/shop/': { to: 'https://shop.example/', status: 301 },
    '/?p=7': { to: `${oldAddress}/tide/`, status: 302 },
    '/kettle/': page('Kettle', 'Nine members and a dog agreed to replace it soon'),
  };
  const next: Site = {
    '/': page('Club'),
    '/tide/': page('Tide'),
    '/linked/': page('Linked'),
    '/marathon/': page('Estuary marathon', text),
    '/sitemap.xml': sitemap(`${newAddress}/marathon/`),
    '/?p=7': { to: `${newAddress}/tide/`, status: 301 },
  };
  const old = await site(t, pages, oldAddress, join(root, 'old'));
  const other = await site(t, next, newAddress);
  const log = [
    '/site/old-tide/',
    '/site/shop/',
    '/site/?p=7',
    '/site/kettle/',
    '/site/kettle/',
    '/site/gone/',
  ]
    .map(
      path =>
        `192.0.2.1 - - [05/Oct/2026:21:14:03 +0100] "GET ${path} HTTP/1.1" ${path.includes('gone') ? 404 : 200} 5 "-" "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"\n`,
    )
    .join('');
  writeFileSync(join(root, 'move/access.log.1.gz'), gzipSync(log));
  writeFileSync(
    join(root, 'move/move.yaml'),
    `name: club
old: { address: ${oldAddress}, reach: "http://127.0.0.1:${old.port}", files: ../old }
new: { address: ${newAddress}, reach: "http://127.0.0.1:${other.port}", files: ../new }
take: { database: false }
redirects: { logs: ["access.log*"]${more} }
`,
  );
  const cwd = join(root, 'move');
  const step = async (args: string[], code = 0) => {
    const ran = await run(['redirects', ...args, '--json', '--quiet'], { cwd });
    assert.equal(ran.code, code, `${args.join(' ')}: ${ran.stdout.slice(0, 2500)}${ran.stderr}`);
    return code === 2 ? undefined : JSON.parse(ran.stdout);
  };
  const at = (name: string) => join(root, name);
  const list = () => readFileSync(at('move/redirects.csv'), 'utf8').trim().split('\n');
  return { step, at, list, old, cwd };
}

test('a list that a person edits stays, is put in place, tested, put again and taken back, whatever others write meanwhile', async t => {
  const { step, at, list } = await club(t);
  const { result } = await step([]);
  assert.deepEqual(
    result.looked.map((one: { what: string; seen: boolean }) => [one.what, one.seen]),
    [
      ['data', false],
      ['sitemaps', true],
      ['crawl', true],
      ['access logs', true],
    ],
  );
  assert.deepEqual(
    result.without.map((one: { page: string; hits: number }) => [one.page, one.hits]),
    [
      ['/kettle/', 2],
      ['/estuary-marathon/', 0],
    ],
  );
  const first = list();
  assert.ok(first.includes('/old-tide/,/tide/,,the old site redirects it already,1'), first.join('\n'));
  assert.ok(first.includes('/shop/,https://shop.example/,,the old site redirects it already,1'));
  assert.ok(first.includes('/?p=7,/tide/,,the new site has it there,1'));
  assert.ok(!first.some(line => line.startsWith('/gone/')));

  // A spreadsheet saves it: another order, another separator, a column of its own, and two lines changed.
  const edited = [
    'from;to;status;why;hits;who',
    '/kettle/;;410;nobody misses it;2;Ifor',
    ...first
      .slice(1)
      .filter(line => !line.startsWith('/kettle/'))
      .map(line => line.replace('/old-tide/,/tide/', '/old-tide/,/').replaceAll(',', ';')),
  ];
  writeFileSync(at('move/redirects.csv'), `\uFEFF${edited.join('\r\n')}\r\n`);
  await step(['--accept', '0.9']);
  const second = list();
  assert.equal(second[0], 'from,to,status,why,hits,who');
  assert.equal(second[1], '/kettle/,,410,nobody misses it,2,Ifor');
  assert.ok(
    second.some(line => /^\/old-tide\/,\/,,/.test(line)),
    second.join('\n'),
  );
  assert.ok(
    second.some(line => /^\/estuary-marathon\/,\/marathon\/,,"accepted \(1\.00/.test(line)),
    second.join('\n'),
  );
  const again = await step([]);
  assert.deepEqual(list(), second);
  assert.deepEqual(again.result.without, []);

  // One of them the old site redirects there already.
  assert.equal((await step(['test'], 1)).result.right, 1);
  await step(['put'], 2);
  assert.equal(readFileSync(at('old/.htaccess'), 'utf8'), own, 'it asked, and nobody said yes');
  await step(['put', '--yes']);
  const { result: tested } = await step(['test']);
  assert.equal(tested.right, tested.asked);
  assert.ok(tested.asked >= 8);
  // Somebody writes into the same file, the list changes, and it is put once more.
  writeFileSync(at('old/.htaccess'), `${readFileSync(at('old/.htaccess'), 'utf8')}# somebody else\n`);
  writeFileSync(at('move/redirects.csv'), list().join('\n').replace('/old-tide/,/,', '/old-tide/,/linked/,'));
  await step(['put', '--yes']);
  assert.equal((await step(['test'])).result.right, tested.asked);
  const tried = await step(['try', '/old-tide', 'https://www.club.saltmarsh.example/site/x?y']);
  assert.deepEqual(
    tried.result.map((one: { hops: { target: string }[] }) => one.hops.map(({ target }) => target)),
    [[`${newAddress}/linked/`], [`${newAddress}/x?y`]],
  );
  await step(['take-back', '--yes']);
  assert.equal(readFileSync(at('old/.htaccess'), 'utf8'), `${own}# somebody else\n`);
  assert.equal((await step(['take-back', '--yes'])).result.changed, false);
});

test('where the site fails with the redirects, they are taken back at once; temporary ones become permanent with tidy', async t => {
  const { step, at, old, cwd } = await club(t, ', first: temporary');
  await step([]);
  old.failing.with = 500;
  assert.equal((await step(['put', '--yes'], 1)).findings.at(0).code, 'redirect-put-failed');
  assert.equal(readFileSync(at('old/.htaccess'), 'utf8'), own);
  delete old.failing.with;
  await step(['put', '--yes']);
  assert.match(readFileSync(at('old/.htaccess'), 'utf8'), /R=302/);
  for (const args of [
    ['pack'],
    ['rewrite'],
    ['deliver', '--yes'],
    ['tidy', '--yes', '--unchecked', '--not-switched'],
  ]) {
    const ran = await run(args, { cwd });
    assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  }
  const rules = readFileSync(at('old/.htaccess'), 'utf8');
  assert.ok(/R=301/.test(rules) && !/R=302/.test(rules) && rules.endsWith(own), rules);
  assert.match(readFileSync(at('move/redirects/nginx/redirects.conf'), 'utf8'), /return 301/);
});

test('a front file of PHP takes the place of the old one, and gives it back byte for byte', async t => {
  const { step, at } = await club(t, ', server: php');
  writeFileSync(at('old/index.php'), '<?php // the club\r\n');
  await step([]);
  await step(['put', '--yes']);
  assert.match(
    readFileSync(at('old/index.php'), 'utf8'),
    /^<\?php\n\/\/ Able Porter: redirects of the move\n/,
  );
  await step(['put', '--yes']);
  await step(['take-back', '--yes']);
  assert.equal(readFileSync(at('old/index.php'), 'utf8'), '<?php // the club\r\n');
});

test('many lines go into tables beside the .htaccess, and are gone after it', async t => {
  const { step, at } = await club(t);
  await step([]);
  const lines = Array.from({ length: 900 }, (_, i) => `/entry-${i}/,/tide/,,mine,`);
  writeFileSync(
    at('move/redirects.csv'),
    `from,to,status,why,hits\n${lines.join('\n')}\n/kettle/,,410,,\n/estuary-marathon/,/marathon/,,,\n`,
  );
  await step([]);
  await step(['put', '--yes']);
  assert.ok(
    existsSync(at('old/able-porter-redirects/0/.htaccess')) ||
      existsSync(at('old/able-porter-redirects/00/.htaccess')),
  );
  const { result } = await step(['test']);
  assert.ok(result.asked > 900 && result.right === result.asked, JSON.stringify(result.wrong.slice(0, 3)));
  await step(['take-back', '--yes']);
  assert.ok(!existsSync(at('old/able-porter-redirects')));
  assert.equal(readFileSync(at('old/.htaccess'), 'utf8'), own);
});

test('what cannot be used is named with its line', async t => {
  const { step, at, cwd } = await club(t, ', rules: [{ from: "/:a/:b", to: "/:c" }]');
  const wrong = await run(['redirects'], { cwd });
  assert.equal(wrong.code, 2);
  assert.match(wrong.stderr, /Reading the redirect rule "\/:a\/:b": its "to" names :c/);
  writeFileSync(
    at('move/move.yaml'),
    readFileSync(at('move/move.yaml'), 'utf8').replace(/, rules: .*\] \}/, ' }'),
  );
  writeFileSync(at('move/redirects.csv'), 'from,to\n/a,"/b\n');
  const damaged = await run(['redirects'], { cwd });
  assert.deepEqual([damaged.code, /Save it again as CSV/.test(damaged.stderr)], [4, true], damaged.stderr);
  writeFileSync(at('move/redirects.csv'), 'from,to\n/a,nowhere\n/self,/self\n');
  const codes = (await step([])).findings.map((one: { code: string }) => one.code);
  assert.ok(codes.includes('redirect-line-ignored'), codes.join());
});
