import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parsePair } from '../../../../src/core/address/pairs.js';
import { applyEdits, asBytes, type ByteString, bytesOfText } from '../../../../src/core/bytes.js';
import { editsInValue } from '../../../../src/core/rewrite/carriers/value.js';
import { observerOf } from '../../../../src/core/rewrite/report/observer.js';
import { Tally } from '../../../../src/core/rewrite/report/tally.js';
import { compileRules, type RuleOptions } from '../../../../src/core/rewrite/terms/rules.js';
import { type Encodable, encodeSerialized } from '../../../../src/core/serialized/encode.js';
import { bench } from '../../../help/bench.js';

const pairs = [parsePair('https://old.example/site', 'https://new.example')];
const old = 'https://old.example/site';
const next = 'https://new.example';

function rewrite(value: ByteString, options: RuleOptions = {}) {
  const place = new Tally().at('t', 'c');
  const edits = editsInValue(value, compileRules(bench, pairs, options), observerOf(place));
  return { value: applyEdits(value, edits), place };
}

const { value: nested } = fc.letrec<{ value: Encodable }>(tie => ({
  value: fc.oneof(
    { maxDepth: 3 },
    fc
      .array(fc.oneof(fc.constantFrom(old, 'é', '";', '}', 'i:0;', '\n'), fc.string({ maxLength: 8 })), {
        maxLength: 4,
      })
      .map(pieces => pieces.join(' ')),
    fc.integer(),
    fc.array(tie('value'), { maxLength: 4 }),
    fc.dictionary(fc.stringMatching(/^[a-z]{1,5}$/), tie('value'), { maxKeys: 3 }),
  ),
}));

test('what a plain replacement has broken is mended to what it should have become, or left', () => {
  let mended = 0;
  fc.assert(
    fc.property(nested, value => {
      const right = encodeSerialized(value).replaceAll(old, next);
      const whole = encodeSerialized(JSON.parse(JSON.stringify(value).replaceAll(old, next)) as Encodable);
      const after = rewrite(asBytes(right), { mend: true });
      if (after.value !== right) {
        assert.equal(after.value, whole);
        mended++;
      }
    }),
    { numRuns: 3000 },
  );
  assert.ok(mended > 300, `only ${mended}`);
});

test('mending follows nested values, sets old addresses right too, and leaves what has two readings', () => {
  const inner = (address: string, length: number) => `a:1:{s:3:"url";s:${length}:"${address}";}`;
  const outer = (content: string, length: number) => asBytes(`a:2:{i:0;s:${length}:"${content}";i:1;N;}`);
  const broken = outer(inner(old, 20), 40);
  const { value, place } = rewrite(broken, { mend: true });
  assert.equal(value, outer(inner(next, next.length), inner(next, 19).length));
  assert.equal(place.mended, 2);
  assert.equal(rewrite(broken).value, broken);
  for (const doubtful of [
    'a:2:{i:0;s:9:"a";i:1;s:1:"b";i:1;s:1:"c";}',
    'a:1:{i:0;s:9:"cut off',
    'a:3:{i:0;s:9:"one is missing";}',
    `a:1:{i:0;s:1:"${'";i:0;s:1:"'.repeat(3000)}x`,
  ]) {
    const left = rewrite(asBytes(doubtful), { mend: true });
    assert.equal(left.value, doubtful);
    assert.equal(left.place.damaged, 1);
  }
});

/** Ways of writing bytes as Base64; of alphabet, padding and escapes a short text does not always show its own. */
const writings: Record<string, (text: string) => string> = {
  standard: text => text,
  'in lines of 200': text => text.replace(/.{200}(?=.)/g, '$&\r\n'),
  'for URLs': text => text.replaceAll('+', '-').replaceAll('/', '_').replace(/=+$/, ''),
  'with escaped slashes': text => text.replaceAll('/', '\\/'),
};

for (const [name, write] of Object.entries(writings)) {
  test(`an address in Base64 is reported, and rewritten when asked (${name})`, () => {
    fc.assert(
      fc.property(nested, fc.constantFrom('', 'data:;base64,', 'x="'), (value, before) => {
        const inBase64 = (bytes: string) =>
          asBytes(`${before}${write(Buffer.from(bytes, 'latin1').toString('base64'))}" y`);
        const serialized = encodeSerialized([`>> ${old}/tide`, value, 'crew'.repeat(60)]);
        const carrier = inBase64(serialized);
        const told = rewrite(carrier);
        assert.equal(told.value, carrier);
        const direct = rewrite(serialized);
        assert.equal(told.place.misses['in Base64'], direct.place.pairs[0]);
        const opened = rewrite(carrier, { openBase64: true });
        const inOneWay = (text: string) =>
          text.replace(/[=\\]/g, '').replaceAll('-', '+').replaceAll('_', '/');
        assert.equal(inOneWay(opened.value), inOneWay(inBase64(direct.value)));
        assert.equal(opened.place.forms.base64, direct.place.pairs[0]);
      }),
      { numRuns: 400 },
    );
  });
}

test('Base64 is opened where a path is before it, inside a serialized value, and not where it is none', () => {
  const packed = (text: string) => Buffer.from(text).toString('base64');
  const path = (address: string) => asBytes(`see /track/${packed(`${address}/a?b=c`)} now`);
  assert.equal(rewrite(path(old), { openBase64: true }).value, path(next));
  const carried = (address: string) => encodeSerialized([packed(`<a href="${address}">`)]);
  assert.equal(rewrite(carried(old), { openBase64: true }).value, carried(next));
  const binary = asBytes(Buffer.from(`\0\xff\x01${old}`, 'latin1').toString('base64'));
  assert.equal(rewrite(binary, { openBase64: true }).value, binary);
});

const latin = fc
  .array(fc.constantFrom(old, 'é', 'ß', '“', 'a', '";', ' '), { maxLength: 8 })
  .map(pieces => `.${pieces.join(' ')}`);

test('what only looks like Base64 costs no more than its length', () => {
  const anchor = Buffer.from('https://old.example/site/').toString('base64').slice(12, 24);
  const hostile = asBytes(`\x01${'/'.repeat(1000)}x${anchor.repeat(60_000)}-`);
  assert.equal(rewrite(hostile, { openBase64: true }).value, hostile);
});

test('lengths that count bytes of another character set stay true for the site', () => {
  /** What the site holds, and how each of its bytes or characters is in the dump. */
  const windows: Record<string, string> = { '\x93': '“' };
  const asUtf8 = (bytes: string) => bytesOfText([...bytes].map(char => windows[char] ?? char).join(''));
  const ways: [
    name: string,
    site: (text: string) => ByteString,
    dumped: (bytes: ByteString) => ByteString,
  ][] = [
    ['a latin1 site dumped as UTF-8', text => asBytes(text.replaceAll('“', '\x93')), asUtf8],
    ['encoded twice', text => bytesOfText(text.replaceAll('“', 'à')), bytes => bytesOfText(bytes)],
    [
      'a UTF-8 site dumped as latin1',
      bytesOfText,
      bytes => asBytes(Buffer.from(bytes, 'latin1').toString('utf8').replaceAll('“', '\x93')),
    ],
  ];
  for (const [name, site, dumped] of ways) {
    fc.assert(
      fc.property(fc.array(latin, { minLength: 1, maxLength: 4 }), texts => {
        const whole = site(`a:${texts.length}:{${texts.map((_, i) => `i:${i};@${i}@`).join('')}}`);
        const value = (list: string[]) =>
          asBytes(
            list.reduce<string>((s, text, i) => {
              const bytes = site(text);
              return s.replace(`@${i}@`, () => `s:${bytes.length}:"${bytes}";`);
            }, whole),
          );
        const before = dumped(value(texts));
        const expected = dumped(value(texts.map(text => text.replaceAll(old, next))));
        assert.equal(rewrite(before).value, expected, name);
      }),
      { numRuns: 500 },
    );
  }
});
