import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { formatAddress, parseAddress } from '../../../src/core/address/address.js';
import { dialectOfServer, dialects } from '../../../src/core/redirects/dialects/dialects.js';
import { redirector } from '../../../src/core/redirects/redirect-of.js';
import { redirectSet } from '../../../src/core/redirects/redirect-set.js';
import { type WrittenSet, setOf as writtenSet } from '../../help/redirect-sets.js';

const setOf = (old: string, to: string, ...also: string[]) => writtenSet({ old, to, also });
/** Where a URL leads; its path as it is written. */
const lead = (set: ReturnType<typeof setOf>, url: string, method = 'GET') => {
  const [, scheme, host, uri] = /^(https?):\/\/([^/?]+)(.*)$/s.exec(url)!;
  const redirect = redirector(set)({ method, scheme: scheme as 'http', host: host!, uri: uri || '/' });
  return redirect && `${redirect.status} ${redirect.target}`;
};

test('a server is recognised by what it calls itself', () => {
  const seen = ['Apache/2.4.57 (Debian)', 'nginx', 'Caddy', 'something else', undefined];
  assert.deepEqual(seen.map(dialectOfServer), ['apache', 'nginx', 'caddy', undefined, undefined]);
});

test('every address of the old site leads to the same place at the new one, in one hop', () => {
  const set = setOf('https://club.example/site', 'https://rowing.example', 'http://tmp.host.example/~club');
  const cases: [string, string | undefined][] = [
    ['https://club.example/site/', 'https://rowing.example/'],
    ['https://club.example/site', 'https://rowing.example/'],
    ['http://CLUB.example./site?a=1', 'https://rowing.example/?a=1'],
    ['https://www.club.example/site/a/b/?p=1&q=x%20y', 'https://rowing.example/a/b/?p=1&q=x%20y'],
    ['http://tmp.host.example/~club/tides/', 'https://rowing.example/tides/'],
    ['http://tmp.host.example/%7eclub/tides/', 'https://rowing.example/tides/'],
    ['http://www.tmp.host.example/%7Eclub', 'https://rowing.example/'],
    ['https://club.example/site/caf%C3%A9%2Fx\xE9//..', 'https://rowing.example/caf%C3%A9%2Fx\xE9//..'],
    ['https://club.example/sitemap.xml', undefined],
    ['https://club.example/Site/', undefined],
    ['https://club.example/', undefined],
    ['https://other.example/site/', undefined],
  ];
  for (const [url, target] of cases) assert.equal(lead(set, url), target && `301 ${target}`, url);
  assert.equal(lead(set, 'https://club.example/site/send', 'POST'), '308 https://rowing.example/send');
});

test('paths with spaces, tildes and letters beyond ASCII are found in whichever way they are sent', () => {
  const set = setOf('https://club.example/my site/~übung', 'https://rowing.example');
  for (const path of ['/my%20site/~%C3%BCbung', '/my%20site/%7E%c3%bcbung', '/my%20site/%7e\xC3\xBCbung'])
    assert.equal(lead(set, `https://club.example${path}/a`), '301 https://rowing.example/a', path);
});

test('what overlaps does not loop: a folder of the same host, the twin, the other scheme', () => {
  const inward = setOf('https://club.example', 'https://club.example/blog');
  assert.equal(lead(inward, 'https://club.example/a'), '301 https://club.example/blog/a');
  assert.equal(lead(inward, 'https://www.club.example/blog/a'), '301 https://club.example/blog/a');
  for (const url of ['/blog', '/blog/', '/blog/a', '/blog?x', '/.well-known/acme-challenge/x'])
    assert.equal(lead(inward, `https://club.example${url}`), undefined, url);
  const secured = setOf('http://club.example', 'https://club.example');
  assert.equal(lead(secured, 'http://club.example/a?b'), '301 https://club.example/a?b');
  assert.equal(lead(secured, 'https://club.example/a?b'), undefined);
  assert.equal(lead(secured, 'https://www.club.example/a'), '301 https://club.example/a');
  const bare = setOf('https://www.club.example', 'https://club.example');
  assert.equal(lead(bare, 'https://www.club.example/a'), '301 https://club.example/a');
  assert.equal(lead(bare, 'https://club.example/a'), undefined);
  const outward = setOf('https://club.example/blog', 'https://club.example');
  assert.equal(lead(outward, 'https://club.example/blog/a'), '301 https://club.example/a');
});

test('no request is redirected for ever, whatever hosts and paths overlap', () => {
  const host = fc.constantFrom('a.example', 'www.a.example', 'b.example', 'www.b.example');
  const path = fc
    .array(fc.constantFrom('a', 'b', '~c', 'ü', 'x y'), { maxLength: 2 })
    .map(parts => parts.map(part => `/${part}`).join(''));
  const address = fc
    .tuple(fc.constantFrom('http', 'https'), host, path)
    .map(([scheme, name, at]) => parseAddress(`${scheme}://${name}${at}`));
  fc.assert(
    fc.property(
      address,
      fc.array(address, { maxLength: 2 }),
      address,
      fc.constantFrom('http', 'https'),
      host,
      path,
      (old, also, to, scheme, name, at) => {
        const set = redirectSet(old, also, to);
        let url = `${scheme}://${name}${new URL(`http://x${at}`).pathname}`;
        const been = [url];
        for (;;) {
          const next = lead(set, url)?.slice(4);
          if (next === undefined) break;
          assert.ok(next.startsWith(`${formatAddress(to)}/`) && next !== url, next);
          been.push(next);
          assert.ok(been.length <= 10, been.join(' → '));
          url = next;
        }
      },
    ),
    { numRuns: 2_000 },
  );
});

test('what has a meaning in patterns is itself in every dialect', () => {
  const set = setOf('https://old.example/a+b.c', 'https://new.example/100%25$1');
  for (const { name, files } of dialects) {
    const text = files(set, ['/'])[0]!.text;
    if (name !== 'static' && name !== 'csv') assert.match(text, /a\\+\+b\\+\.c/, name);
    assert.ok(text.includes(name === 'apache' ? '100\\%25\\%241' : '100%25%241'), `${name}: ${text}`);
  }
});

test('a single page has its own target, in whichever way it is sent, and a rule comes after it', () => {
  const set = writtenSet({
    old: 'https://club.example/site',
    also: ['http://tmp.host.example/~club'],
    to: 'https://rowing.example/new',
    singles: [
      ['/spring tide/', '/tides/'],
      ['https://www.club.example/site/?p=12', '/cox?all=1'],
      ['/café', 'https://other.example/é#menu', 302],
      ['/2019/05/gone/', '', 410],
      ['/send', '/contact/'],
      ['/?p=7', '/crew/'],
    ],
    rules: [{ from: '/:year(\\d{4})/:month(\\d{2})/:slug/', to: '/:slug/' }],
  });
  const at = 'https://club.example/site';
  const cases: [string, string | undefined][] = [
    [`${at}/spring%20tide`, '301 https://rowing.example/new/tides/'],
    ['http://tmp.host.example/%7Eclub/spring%20tide/?a', '301 https://rowing.example/new/tides/?a'],
    [`${at}?p=12`, '301 https://rowing.example/new/cox?all=1'],
    [`${at}/?p=7`, '301 https://rowing.example/new/crew/'],
    [`${at}/?p=123`, '301 https://rowing.example/new/?p=123'],
    [`${at}/caf%c3%a9/?a`, '302 https://other.example/%C3%A9#menu'],
    [`${at}/caf\xC3\xA9`, '302 https://other.example/%C3%A9#menu'],
    [`${at}/2019/05/gone`, '410 undefined'],
    [`${at}/2019/05/regatta?x=1`, '301 https://rowing.example/new/regatta/?x=1'],
    [`${at}/2019/5/regatta`, '301 https://rowing.example/new/2019/5/regatta'],
    [`${at}/SEND`, '301 https://rowing.example/new/SEND'],
  ];
  for (const [url, target] of cases) assert.equal(lead(set, url), target, url);
  assert.equal(lead(set, `${at}/send?a`, 'POST'), '308 https://rowing.example/new/contact/?a');
  assert.equal(lead(set, `${at}/caf%C3%A9`, 'POST'), '307 https://other.example/%C3%A9#menu');
});

test('redirects are temporary, without query, and in any letter case where that is wished', () => {
  const wish: Pick<WrittenSet, 'old' | 'to' | 'singles'> = {
    old: 'https://club.example/Site',
    to: 'https://rowing.example',
    singles: [['/Tide', '/tides']],
  };
  const set = writtenSet({ ...wish, options: { isTemporary: true, anyCase: true, query: 'drop' } });
  assert.equal(lead(set, 'https://club.example/siTE/tIDE/?a=1'), '302 https://rowing.example/tides');
  assert.equal(lead(set, 'https://club.example/site/A', 'POST'), '307 https://rowing.example/A');
  assert.equal(lead(writtenSet(wish), 'https://club.example/Site/tide'), '301 https://rowing.example/tide');
});

test('where the address stays the same, only single pages, rules, the twin and the other scheme lead anywhere', () => {
  const set = writtenSet({
    old: 'https://club.example',
    to: 'https://club.example',
    singles: [['/old', '/new']],
    rules: [{ from: '/news/:slug', to: '/:slug' }],
  });
  assert.equal(lead(set, 'https://club.example/old/'), '301 https://club.example/new');
  assert.equal(lead(set, 'https://club.example/news/a'), '301 https://club.example/a');
  assert.equal(lead(set, 'https://club.example/other'), undefined);
  assert.equal(lead(set, 'http://club.example/other'), '301 https://club.example/other');
  assert.equal(lead(set, 'https://www.club.example/old'), '301 https://club.example/new');
  assert.equal(lead(set, 'https://club.example/.well-known/acme-challenge/x'), undefined);
});

test('pages for hosts of files lead on, wherever their names may lead', () => {
  const set = setOf('https://club.example/site', 'https://rowing.example');
  const { files } = dialects.find(({ name }) => name === 'static')!;
  const pages = [
    '/tide/',
    '/tide',
    '/a.html',
    '/../up',
    '/%2e%2e/up',
    '/.htaccess',
    '/?p=1',
    '/a%00b',
    '/caf%C3%A9',
    '/tide/x',
    '/a%2Fb',
  ];
  const written = files(set, pages);
  assert.deepEqual(written.map(({ path }) => path).sort(), [
    'a.html',
    'café/index.html',
    'index.html',
    'tide/index.html',
    'tide/x/index.html',
  ]);
  assert.match(
    written.find(({ path }) => path.startsWith('tide/i'))!.text,
    /canonical" href="https:\/\/rowing\.example\/tide\/"/,
  );
});
