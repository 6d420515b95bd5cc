import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parseAddress } from '../../../src/core/address/address.js';
import { redirectBlock } from '../../../src/core/redirects/block.js';
import { readLogLine } from '../../../src/core/redirects/plan/access-log.js';
import { homeOf, wantedTarget } from '../../../src/core/redirects/plan/decide.js';
import { KnownPages } from '../../../src/core/redirects/plan/known-pages.js';
import { LikelyPages } from '../../../src/core/redirects/plan/likeness.js';
import { type ListLine, readList, singlesOf, writeList } from '../../../src/core/redirects/plan/list.js';
import { proposedRules } from '../../../src/core/redirects/plan/rule-proposals.js';
import { redirector } from '../../../src/core/redirects/redirect-of.js';
import { setOf } from '../../help/redirect-sets.js';

const old = parseAddress('https://club.example/site');
const to = parseAddress('https://rowing.example');

test('lines of access logs are read in every usual format', () => {
  const request = '"GET /site/a\\x20b?x=\\"1\\" HTTP/1.1"';
  const common = `192.0.2.1 - anna [05/Oct/2026:21:14:03 +0100] ${request} 200 512`;
  const combined = `${common} "https://search.example/?q=\\"x\\"" "Firefox (a; b) \\"c\\""`;
  const wanted = {
    host: undefined,
    method: 'GET',
    uri: '/site/a b?x="1"',
    status: 200,
    agent: undefined,
    at: Date.parse('2026-10-05T20:14:03Z'),
  };
  assert.deepEqual(readLogLine(common), wanted);
  assert.deepEqual(readLogLine(combined), { ...wanted, agent: 'Firefox (a; b) "c"' });
  assert.equal(readLogLine(`club.example:443 ${combined}`)?.host, 'club.example');
  assert.equal(readLogLine(`club.example ${combined}`)?.host, 'club.example');
  assert.equal(
    readLogLine('2001:db8::1 - - [05/Oct/2026:21:14:03 +0000] "POST / HTTP/2.0" 301 -')?.method,
    'POST',
  );
  for (const wrong of ['', '# a comment', '192.0.2.1 - - [x] "\\x16\\x03" 400 0', 'date=1 path=/'])
    assert.equal(readLogLine(wrong), undefined, wrong);
});

test('an old address is known once, in its best spelling, with all that is known of it', () => {
  const pages = new KnownPages([old, parseAddress('http://tmp.example/~club')]);
  pages.add('https://club.example/site/tide?utm_source=x', 'log', { hits: 3, bots: 1 });
  pages.add('/tide/', 'sitemap');
  pages.add('http://tmp.example/%7Eclub/tide/#top', 'link');
  pages.add('/caf%c3%a9/?b=1&fbclid=2', 'log', { hits: 9, bots: 0 });
  for (const other of [
    'https://other.example/site/',
    '//x/y',
    'https://club.example/sitemap.xml',
    'mailto:a@b.example',
    `/${'a'.repeat(3000)}`,
  ])
    assert.equal(pages.add(other, 'link'), undefined, other);
  assert.deepEqual(pages.all(), [
    { key: '/caf%C3%A9?b=1', page: '/caf%C3%A9/?b=1', sources: ['log'], hits: 9, bots: 0 },
    { key: '/tide', page: '/tide/', sources: ['log', 'sitemap', 'link'], hits: 3, bots: 1 },
  ]);
});

const line = (from: string, target: string, more: Partial<ListLine> = {}): ListLine => ({
  from,
  to: target,
  status: '',
  why: '',
  hits: '',
  more: {},
  ...more,
});

test('the list comes back as it was written, and as spreadsheets save it', () => {
  const text = fc.string({ unit: 'grapheme', maxLength: 12 }).map(one => one.trim());
  const field = text.filter(one => !/^[=+\-@\t\r'＝＋－＠]/u.test(one));
  const any = fc.record(
    {
      from: field.map(one => `/${one}`),
      to: field,
      status: field,
      why: field,
      hits: field,
      more: fc.constant({}),
    },
    { noNullPrototype: true },
  );
  fc.assert(
    fc.property(fc.array(any, { minLength: 1 }), lines =>
      assert.deepEqual(readList(writeList(lines)), lines),
    ),
  );
  const saved = '\uFEFFFrom;To;Status;Why;Hits;Note\r\n/a;/b;;"say ""so""";3;mine\r\n\r\n/c;;410\r\n';
  assert.deepEqual(readList(saved), [
    line('/a', '/b', { why: 'say "so"', hits: '3', more: { note: 'mine' } }),
    line('/c', '', { status: '410' }),
  ]);
  assert.match(writeList([line('/a', '=1+1')]), /'=1\+1/);
});

test('lines that cannot be used are named, and the first for a page counts', () => {
  const lines = [
    line('/a', '/b'),
    line('/a/', '/c'),
    line('https://else.example/', '/d'),
    line('/e', 'f'),
    line('/g', '/h', { status: '404' }),
    line('/open', ''),
    line('/gone', '', { status: '410' }),
  ];
  const { singles, open, findings } = singlesOf(lines, [old], to);
  assert.deepEqual(singles, [
    { key: '/a', target: 'https://rowing.example/b', status: 301 },
    { key: '/gone', target: '', status: 410 },
  ]);
  assert.deepEqual([...open], ['/open']);
  for (const wanted of [
    /4 lines/,
    /line 3: \/a\/ has a line before it/,
    /line 4: "https:\/\/else/,
    /line 5: "f" is neither/,
    /line 6: the status 404/,
  ])
    assert.match(findings[0]!.what, wanted);
});

test('a page that was renamed is found by what stayed, and one that is gone is not', () => {
  const frame = 'Saltmarsh Rowing Club news boats tides members contact';
  const topics = [
    'curlew cedar frost cox',
    'marathon estuary tide eleven',
    'fees students adults cake',
    'history ferrymen wager flood',
    'coaching crew saturday stroke',
    'safety cold ebb ships water',
    'gallery sunset picture light',
  ];
  const page = (name: string, title: string, n: number) => ({
    page: `/${name}/`,
    title: `${title} – Saltmarsh`,
    text: `${frame} ${topics[n]} ${topics[n]!.toUpperCase()} page${n}`,
  });
  const likely = new LikelyPages([
    page('our-cedar-boat', 'Curlew', 0),
    page('the-marathon', 'Estuary Marathon', 1),
    page('fees-2026', 'Fees', 2),
    page('past', 'History', 3),
    page('learn', 'Coaching', 4),
    page('be-safe', 'Safety', 5),
    page('pictures', 'Gallery', 6),
  ]);
  const best = (name: string, title: string, n: number) => likely.for(page(name, title, n))[0];
  assert.deepEqual(best('curlew', 'Curlew', 0), {
    page: '/our-cedar-boat/',
    score: 1,
    by: ['title', 'text'],
  });
  assert.equal(best('estuary-marathon', 'The long row', 1)?.page, '/the-marathon/');
  assert.equal(best('fees', 'Fees', 2)?.page, '/fees-2026/');
  const year = likely.for({
    ...page('fees-2025', 'Fees', 2),
    text: `${frame} nine other words that nobody has written there before`,
  })[0];
  assert.deepEqual([year?.page, year?.score], ['/fees-2026/', 0.7]);
  const gone = likely.for({
    page: '/regatta-1987/',
    title: 'Regatta of 1987',
    text: `${frame} kettle minutes dog nine`,
  });
  assert.ok((gone[0]?.score ?? 0) < 0.6, JSON.stringify(gone));
  assert.equal(likely.for({ page: '/fees-2025.html', title: '', text: '' })[0]?.page, '/fees-2026/');
});

test('a rule that many pages follow is proposed', () => {
  const moved = Array.from(
    { length: 12 },
    (_, i) => [`/20${10 + i}/0${1 + (i % 9)}/entry-${i}/`, `/entry-${i}/`] as const,
  );
  assert.deepEqual(proposedRules([...moved, ['/2019/05/x/', '/y/'], ['/a/b', '/c/b']]), [
    { from: '/:year(\\d{4})/:month(\\d{2})/:slug/', to: '/:slug/', pages: 12, example: moved[0] },
  ]);
  const files = Array.from({ length: 10 }, (_, i) => [`/old/p${i}x.html`, `/news/p${i}x/`] as const);
  assert.equal(proposedRules(files)[0]?.from, '/old/:slug.html');
  assert.equal(proposedRules(files)[0]?.to, '/news/:slug/');
});

test('an earlier redirect of the old site leads straight to where it ends', () => {
  const set = setOf({
    old: 'https://club.example/site',
    to: 'https://rowing.example',
    singles: [['/mine', '/hers']],
  });
  const answers = redirector(set);
  const at = (page: string, led?: string, isPermanent = true) =>
    wantedTarget(
      { page, key: page },
      led === undefined ? undefined : { status: 200, led, isPermanent, title: '' },
      set,
      answers,
    );
  assert.deepEqual(at('/a', 'https://club.example/site/b/?c'), {
    target: 'https://rowing.example/b/?c',
    by: 'earlier redirect',
    rule: undefined,
    otherwise: 'https://rowing.example/a',
  });
  assert.equal(at('/a', 'https://club.example/site/a/').by, 'same path');
  assert.equal(at('/a', 'https://club.example/site/b/', false).by, 'same path');
  assert.equal(at('/a', 'https://shop.example/').target, 'https://shop.example/');
  assert.equal(at('/mine', 'https://club.example/site/b/').target, 'https://rowing.example/hers');
});

test('a redirect of the new site is a home only where the page is the same', () => {
  const next = (status: number, led: string | undefined, title: string) =>
    homeOf(
      'https://rowing.example/2019/tide/',
      { status, led, isPermanent: true, title },
      { status: 200, led: undefined, isPermanent: true, title: 'Tide – Club' },
      to,
    );
  assert.deepEqual(next(200, undefined, 'x'), { kind: 'there' });
  assert.deepEqual(next(200, 'https://rowing.example/tide/', 'Tide – Rowing'), {
    kind: 'moved',
    to: 'https://rowing.example/tide/',
  });
  assert.equal(next(200, 'https://rowing.example/', 'Rowing').kind, 'missing');
  assert.equal(next(200, 'https://rowing.example/tidal/', 'Tidal wave').kind, 'missing');
  assert.deepEqual(next(404, undefined, ''), { kind: 'missing', status: 404 });
});

test('redirects are put on top of a file and taken out again, whatever else changes', () => {
  const own = '# the CMS\r\nRewriteEngine On\r\n';
  const put = redirectBlock.with(own, 'RewriteRule a b\n');
  assert.ok(redirectBlock.in(put) && put.endsWith(own));
  assert.equal(redirectBlock.without(`${put}# somebody\n`), `${own}# somebody\n`);
  assert.equal(redirectBlock.without(redirectBlock.with(put, 'other\n')), own);
  assert.equal(redirectBlock.without(own), own);
});
