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

test('a page that differs only by its addresses is the same, also where its links are relative', () => {
  assert.equal(compare({}).verdict, 'same');
  assert.equal(compare({ html: page('') }).verdict, 'same');
  assert.equal(compare({ html: page('//new.example') }).verdict, 'same');
});

test('what differs on a page is said', () => {
  const differs: [Partial<Answer>, RegExp][] = [
    [{ html: page('https://old.example/site') }, /^2 old addresses in it, 2 links differ$/],
    [{ html: page('https://new.example', 'High water at six') }, /^the text is 80 % alike$/],
    [{ html: page('https://new.example', 'Low water at six', 'Other') }, /^the title is "Other"$/],
    [{ html: page('https://new.example/elsewhere') }, /^2 links differ$/],
  ];
  for (const [next, why] of differs) {
    const compared = compare(next);
    assert.equal(compared.verdict, 'differs');
    assert.match(compared.why, why);
  }
});

test('a missing page differs from one that the old site did not have either', () => {
  assert.equal(compare({ status: 404 }).verdict, 'missing');
  assert.equal(compare({ status: 500 }, { status: 404 }).verdict, 'old fails too');
  assert.equal(compare({}, { status: 404 }).verdict, 'same');
  const away = compare({ status: 302, address: 'https://old.example/site/' });
  assert.deepEqual([away.verdict, away.trouble], ['trouble', 'another address']);
});

test('what is in scripts and styles is not text, and every kind of asset is found', () => {
  const read = readPage(
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
