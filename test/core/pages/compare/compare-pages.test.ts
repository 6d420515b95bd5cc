import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parsePair } from '../../../../src/core/address/pairs.js';
import { comparePages, look } from '../../../../src/core/pages/compare/compare-pages.js';
import { findingsOfPages } from '../../../../src/core/pages/compare/findings.js';
import { NoiseMemory } from '../../../../src/core/pages/compare/noise.js';
import type { ComparedSites } from '../../../../src/core/pages/compare/page-pair.js';
import type { Answer } from '../../../../src/core/pages/read/answer.js';
import { compileRules } from '../../../../src/core/rewrite/terms/rules.js';
import { wordpress } from '../../../../src/core/site/families/wordpress.js';
import { bench } from '../../../help/bench.js';

const sites: ComparedSites = {
  rules: compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')], {}),
  family: wordpress,
  oldHosts: ['old.example'],
  newAddress: 'https://new.example',
  oldPath: '/site',
  noise: new NoiseMemory(),
  expected: { searchEngines: 'keep', maintenance: false, heldBack: path => path.includes('/held/') },
};

const page = (base: string, text = 'Low water at six', title = 'Tides') =>
  `<!doctype html><html><title>${title}</title><p>${text} <a href="${base}/tides/">tides</a> <img src="${base}/boat.png"></html>`;
const answer = (change: Partial<Answer>): Answer => ({
  status: 200,
  html: page('https://old.example/site'),
  address: 'https://old.example/site/',
  headers: { 'content-type': 'text/html' },
  redirects: 0,
  isLoop: false,
  body: 'whole',
  bytes: 100,
  millis: 20,
  ...change,
});
/** @param again another look at the old page */
const compare = async (
  next: Partial<Answer>,
  {
    old = {},
    again = old,
    expected = {},
    path = '/',
  }: {
    old?: Partial<Answer>;
    again?: Partial<Answer>;
    expected?: Partial<ComparedSites['expected']>;
    path?: string;
  } = {},
) =>
  comparePages(
    {
      path,
      old: await look(answer(old)),
      again: await look(answer(again)),
      next: await look(
        answer({ html: page('https://new.example'), address: 'https://new.example/', ...next }),
      ),
    },
    { ...sites, noise: new NoiseMemory(), expected: { ...sites.expected, ...expected } },
  );
const codes = async (...given: Parameters<typeof compare>) =>
  (await compare(...given)).differences.map(({ code }) => code);

test('a page that differs only by its addresses is the same, also where its links are relative', async () => {
  for (const html of [
    page('https://new.example'),
    page(''),
    page('//new.example'),
    page('https://NEW.example'),
  ])
    assert.deepEqual(await codes({ html }), []);
});

test('a link that left the old site leads where it led', async () => {
  const html = page('https://old.example/site').replace('</p>', '<a href="/other/">beside the site</a>');
  const stays = page('https://new.example').replace(
    '</p>',
    '<a href="https://old.example/other/">beside the site</a>',
  );
  assert.deepEqual(await codes({ html: stays }, { old: { html } }), []);
});

test('what the old page has as well is told apart', async () => {
  const warning = '<p>Warning: Undefined variable $a in /srv/a.php on line 3</p></html>';
  const withIt = (html: string) => html.replace('</html>', warning);
  const both = await compare(
    { html: withIt(page('https://new.example')) },
    { old: { html: withIt(page('https://old.example/site')) } },
  );
  assert.deepEqual([both.differences, both.before.map(({ code }) => code)], [[], ['page-message-shown']]);
  assert.ok((await codes({ html: withIt(page('https://new.example')) })).includes('page-message-shown'));
});

test('what changes between two looks at the old page is not reported of the new one', async () => {
  const made = (base: string, n: number, token: string) =>
    page(base, `Made in 0.${n} s for visitor ${n * 7}. Low water at six`).replace(
      '</html>',
      `<a href="${base}/?nonce=${token}">a</a><img src="https://i${token}.cdn.example/p.png"><p>Quote ${['Row!', 'Ebb and flow', 'Ahoy'][n % 3]}</p></html>`,
    );
  const [old, again] = [1, 2].map(n => ({ html: made('https://old.example/site', n, `ab${n}c9e8`) }));
  assert.deepEqual(await codes({ html: made('https://new.example', 30, 'ff01aa') }, { old, again }), []);
  const wrong = made('https://new.example', 30, 'ff01aa').replace('Low water', 'High water');
  assert.deepEqual(await codes({ html: wrong }, { old, again }), ['page-text-differs']);
});

test('what the sheet changes is expected, and nothing beyond it', async () => {
  const renamed = page('https://new.example', 'Welcome to Saltmarsh Rowing', 'Tides – Saltmarsh Rowing');
  const old = { html: page('https://old.example/site', 'Welcome to The Club', 'Tides – The Club') };
  const expected = { title: 'Saltmarsh Rowing' };
  const same = await compare({ html: renamed }, { old, expected });
  assert.deepEqual([same.verdict, same.expected], ['same', ['title']]);
  const other = renamed.replace('Welcome', 'Farewell');
  assert.deepEqual(await codes({ html: other }, { old, expected }), ['page-text-differs']);
  assert.deepEqual(await codes({ html: renamed }, { old }), ['page-title-differs', 'page-text-differs']);
  const noindex = { 'content-type': 'text/html', 'x-robots-tag': 'noindex' };
  assert.deepEqual(await codes({ headers: noindex }, { expected: { searchEngines: 'hide' } }), []);
  assert.deepEqual(await codes({ headers: noindex }, { expected: { searchEngines: 'show' } }), [
    'page-indexing-differs',
  ]);
  assert.deepEqual(await codes({ status: 503 }, { expected: { maintenance: true } }), []);
  const held = {
    html: page('https://old.example/site').replace(
      '</html>',
      '<script src="/site/held/a.js"></script></html>',
    ),
  };
  const seen = await compare({}, { old: held });
  assert.deepEqual([seen.verdict, seen.expected], ['same', ['extensions held back']]);
});

test('statuses, each of its own kind', async () => {
  const old = 'https://old.example/site/';
  const cases: [Partial<Answer>, string][] = [
    [{ status: 404 }, 'page-missing'],
    [{ status: 410 }, 'page-missing'],
    [{ status: 401 }, 'page-forbidden'],
    [{ status: 403 }, 'page-forbidden'],
    [{ status: 500 }, 'page-server-error'],
    [{ status: 502 }, 'page-server-error'],
    [{ status: 503 }, 'page-in-maintenance'],
    [{ status: 302, address: old }, 'page-sent-to-old'],
    [{ status: 302, address: 'https://old.example/' }, 'page-sent-to-old'],
    [{ status: 302, address: 'https://x.example/' }, 'page-sent-away'],
    [{ status: 302, address: 'https://new.example/', isLoop: true }, 'page-redirect-loop'],
  ];
  for (const [next, code] of cases) assert.deepEqual(await codes(next), [code]);
  assert.equal((await compare({ status: 404 }, { old: { status: 404 } })).verdict, 'old fails too');
  assert.deepEqual(await codes({ status: 500 }, { old: { status: 404 } }), ['page-server-error']);
  assert.deepEqual(await codes({}, { old: { status: 404 } }), []);
  // A redirect to the same place elsewhere is as it was.
  const away = { status: 302, address: 'https://shop.example/' };
  assert.deepEqual(await codes(away, { old: away }), []);
});

test('a redirect back to an old host at a port of its own leads to the old site', async () => {
  const address = 'https://old.example:8443/elsewhere';
  const looks = {
    path: '/',
    old: await look(answer({})),
    again: await look(answer({})),
    next: await look(answer({ status: 302, address })),
  };
  const { differences } = await comparePages(looks, {
    ...sites,
    noise: new NoiseMemory(),
    oldHosts: ['old.example:8443'],
  });
  assert.deepEqual(
    differences.map(({ code }) => code),
    ['page-sent-to-old'],
  );
});

test('like differences of many pages are one finding, and a missing page of all is one fault', async () => {
  const of = (path: string, next: Partial<Answer>) => compare(next, { path });
  const html = page('https://new.example').replace(
    '</html>',
    '<img src="https://old.example/site/logo.png"></html>',
  );
  const many = await Promise.all(['/a/', '/b/', '/c/', '/d/', '/e/'].map(path => of(path, { html })));
  const [one, ...others] = findingsOfPages(many, 'https://new.example').filter(
    ({ code }) => code === 'page-old-address',
  );
  assert.equal(others.length, 0);
  assert.match(
    one!.what,
    /^The page \/a\/ holds .*img src.*the same is true of 4 more pages: \/b\/, \/c\/, \/d\/, …$/,
  );
  const lost = await Promise.all(['/a/', '/b/', '/c/'].map(path => of(path, { status: 404 })));
  const home = await of('/', {});
  const broken = findingsOfPages([home, ...lost], 'https://new.example');
  assert.deepEqual(
    broken.map(({ code }) => code),
    ['permalinks-broken'],
  );
  const some = findingsOfPages([home, ...lost, await of('/d/', {})], 'https://new.example');
  assert.deepEqual(
    some.map(({ code, what }) => [code, /2 more pages/.test(what)]),
    [['page-missing', true]],
  );
});
