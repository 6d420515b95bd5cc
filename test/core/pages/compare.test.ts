import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parsePair } from '../../../src/core/address/pairs.js';
import { type Answer, comparePages } from '../../../src/core/pages/compare.js';
import { readPage } from '../../../src/core/pages/page.js';
import { compileRules } from '../../../src/core/rewrite/terms/rules.js';
import { wordpress } from '../../../src/core/site/families/wordpress.js';
import { bench } from '../../help/bench.js';

const rules = compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')], {});

const page = (base: string, text = 'Low water at six', title = 'Tides') =>
  `<!doctype html><title>${title}</title><p>${text} <a href="${base}/tides/">tides</a> <img src="${base}/boat.png">`;
const old: Answer = {
  status: 200,
  html: page('https://old.example/site'),
  address: 'https://old.example/site/',
};
const compare = (next: Partial<Answer>, before: Partial<Answer> = {}) =>
  comparePages(
    '/',
    { ...old, ...before },
    { status: 200, html: page('https://new.example'), address: 'https://new.example/', ...next },
    rules,
    wordpress,
  );

test('a page that differs only by its addresses is the same, also where its links are relative', async () => {
  assert.equal((await compare({})).verdict, 'same');
  assert.equal((await compare({ html: page('') })).verdict, 'same');
  assert.equal((await compare({ html: page('//new.example') })).verdict, 'same');
});

test('what differs on a page is said', async () => {
  const differs: [Partial<Answer>, RegExp][] = [
    [{ html: page('https://old.example/site') }, /^2 old addresses in it, 2 links differ$/],
    [{ html: page('https://new.example', 'High water at six') }, /^the text is 80 % alike$/],
    [{ html: page('https://new.example', 'Low water at six', 'Other') }, /^the title is "Other"$/],
    [{ html: page('https://new.example/elsewhere') }, /^2 links differ$/],
  ];
  for (const [next, why] of differs) {
    const compared = await compare(next);
    assert.equal(compared.verdict, 'differs');
    assert.match(compared.why, why);
  }
});

test('a missing page differs from one that the old site did not have either', async () => {
  assert.equal((await compare({ status: 404 })).verdict, 'missing');
  assert.equal((await compare({ status: 500 }, { status: 404 })).verdict, 'old fails too');
  assert.equal((await compare({}, { status: 404 })).verdict, 'same');
  const away = await compare({ status: 302, address: 'https://old.example/site/' });
  assert.deepEqual([away.verdict, away.trouble], ['trouble', 'another address']);
});

test('what is in scripts and styles is not text, and every kind of asset is found', async () => {
  const read = await readPage(
    '<title> A </title><title>B</title><meta name=robots content="NOINDEX, follow"><link rel="stylesheet" href=s.css><link rel=canonical href=c><style>p{}</style><body>one<script>two</script><noscript>three</noscript><img srcset="a.png 1x, b.png 2x"><video poster=v.png><source src=v.mp4></video><a href=d>four</a>',
  );
  assert.deepEqual(read, {
    title: 'A',
    text: 'one four',
    links: ['d'],
    assets: ['s.css', 'a.png', 'b.png', 'v.png', 'v.mp4'],
    hidden: true,
  });
});

test('a page that is made to be large once it is parsed is read all the same', async () => {
  const size = 2 ** 21;
  const open = Array.from({ length: size / 20 }, (_, i) => `<b id=${i}>`).join('');
  const hostile = [
    // Each paragraph would open every element again.
    `<p>${open}${'</p><p>x'.repeat(size / 16)}`,
    '<div>'.repeat(size / 5),
    '<svg><title>'.repeat(size / 12),
    `<meta ${'<meta '.repeat(size / 6)}`,
    '<template>'.repeat(size / 10),
    `<a href="${'&amp;'.repeat(size / 5)}`,
    '<table><tr><td>x'.repeat(size / 16),
  ];
  for (const html of hostile) {
    const { links, assets } = await readPage(`<a href=first></a>${html}`);
    assert.deepEqual([links[0], assets], ['first', []]);
  }
  const { rss } = process.memoryUsage();
  assert.ok(rss < 1.5e9, `${rss} bytes`);
});
