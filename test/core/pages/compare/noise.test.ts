import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { cookieFault, cookiesOf, missingHeaders } from '../../../../src/core/pages/compare/headers.js';
import { Noise, NoiseMemory, withoutTokens } from '../../../../src/core/pages/compare/noise.js';
import { isChangeTo, textChanges } from '../../../../src/core/pages/compare/text.js';
import type { Answer } from '../../../../src/core/pages/read/answer.js';

const lines = fc.array(fc.stringMatching(/^[a-z]{3,9}( [a-z]{3,9}){0,4}$/), { maxLength: 12 });

test('without noise, lists differ where they differ', () => {
  fc.assert(
    fc.property(lines, lines, (one, other) => {
      const { missing, extra } = new Noise(one, one, new NoiseMemory()).compare(one, other);
      const count = (list: readonly string[], item: string) => list.filter(each => each === item).length;
      for (const item of new Set([...one, ...other])) {
        assert.equal(count(missing, item), Math.max(0, count(one, item) - count(other, item)));
        assert.equal(count(extra, item), Math.max(0, count(other, item) - count(one, item)));
      }
    }),
  );
});

test('a number that changes each time is no difference, whatever else is in the line', () => {
  const number = fc.integer({ min: 0, max: 1e9 });
  fc.assert(
    fc.property(lines, number, number, number, (rest, a, b, c) => {
      fc.pre(a !== b);
      const made = (n: number) => [...rest, `made for visitor ${n} of today`];
      const noise = new Noise(made(a), made(b), new NoiseMemory());
      assert.deepEqual(textChanges(made(a), made(c), noise), []);
      const changed = textChanges(made(a), [...rest, `made for a rower ${c} of today`], noise);
      assert.equal(changed?.length, 1);
    }),
  );
});

test('changes of text are where they are, with what was before', () => {
  fc.assert(
    fc.property(lines, fc.nat(12), lines, (text, at, put) => {
      const changed = [...text.slice(0, at), ...put, ...text.slice(at)];
      const changes = textChanges(text, changed, new Noise(text, text, new NoiseMemory()))!;
      const [removed, added] = [
        changes.flatMap(({ before }) => before),
        changes.flatMap(({ after }) => after),
      ];
      assert.equal(added.length - removed.length, put.length);
    }),
  );
  assert.deepEqual(textChanges(['a', 'b', 'c'], ['a', 'x', 'c'], new Noise([], [], new NoiseMemory())), [
    { before: ['b'], after: ['x'] },
  ]);
});

test('a saying that is drawn from a few is known from other pages where two looks show the same', () => {
  const memory = new NoiseMemory();
  const made = (n: number, saying: string) => [`Crew ${n} met. ${saying}`];
  new Noise(made(1, 'Row on'), made(1, 'Mind the ebb'), memory);
  const same = new Noise(made(2, 'Row on'), made(2, 'Row on'), memory);
  assert.deepEqual(textChanges(made(2, 'Row on'), made(2, 'Mind the ebb'), same), []);
  assert.deepEqual(same.compare(made(2, 'Row on'), made(2, 'Mind the ebb')), { missing: [], extra: [] });
  assert.equal(textChanges(made(2, 'Row on'), made(3, 'Mind the ebb'), same)?.length, 1);
  assert.equal(textChanges(made(2, 'Row on'), made(2, 'Go home'), same)?.length, 1);
});

test('lists that come in another order each time are compared without it', () => {
  const noise = new Noise(['a', 'b', 'c'], ['c', 'a', 'b'], new NoiseMemory());
  assert.ok(noise.isUnordered);
  assert.deepEqual(textChanges(['a', 'b', 'c'], ['b', 'c', 'a'], noise), []);
  assert.equal(textChanges(['a', 'b', 'c'], ['b', 'c', 'd'], noise)?.length, 1);
});

test('a change to a wished word is seen, and nothing else with it', () => {
  const good: [string, string][] = [
    ['The Club', 'New Club'],
    ['Tides – The Club', 'Tides – New Club'],
    ['The Club of The Club', 'New Club of New Club'],
  ];
  for (const [before, after] of good) assert.ok(isChangeTo('New Club', before, after), after);
  const bad: [string, string][] = [
    ['Tides – The Club', 'Winds – New Club'],
    ['The Club of Them', 'New Club of New Club of'],
    ['same', 'same'],
  ];
  for (const [before, after] of bad) assert.ok(!isChangeTo('New Club', before, after), after);
});

test('what looks like a token in a query is left out, what does not stays', () => {
  assert.equal(withoutTokens('https://a/?_wpnonce=9f8e7d6c5b&p=12'), 'https://a/?_wpnonce=*&p=12');
  for (const url of ['https://a/?p=12', 'https://a/?name=boathouse', 'https://a/x'])
    assert.equal(withoutTokens(url), url);
});

const answer = (headers: Answer['headers'], bytes = 5000) => ({ headers, bytes }) as Answer;

test('headers that the new answer lacks', () => {
  const date = 'Mon, 30 Nov 2026 10:00:00 GMT';
  const old = answer({
    'content-encoding': 'gzip',
    expires: 'Tue, 01 Dec 2026 10:00:00 GMT',
    date,
    'x-frame-options': 'DENY',
  });
  assert.deepEqual(
    missingHeaders(old, answer({ 'content-encoding': 'identity' })).map(one => one.split(' ')[0]),
    ['x-frame-options', 'content-encoding', 'cache-control'],
  );
  assert.deepEqual(
    missingHeaders(
      old,
      answer({ 'content-encoding': 'br', 'cache-control': 'max-age=60', 'x-frame-options': 'SAMEORIGIN' }),
    ),
    [],
  );
  assert.deepEqual(
    missingHeaders(old, answer({ 'cache-control': 'public, max-age=1', 'x-frame-options': 'a' }, 300)),
    [],
  );
  assert.deepEqual(missingHeaders(answer({ 'cache-control': 'no-store' }), answer({})), []);
});

test('cookies that reach a site, and those that do not', () => {
  const fault = (line: string, path = '', oldPath = '/site') =>
    cookieFault(cookiesOf(answer({ 'set-cookie': [line] }))[0]!, 'www.club.example', path, oldPath);
  for (const line of [
    'a=1',
    'a=1; Path=/',
    'a=1; Domain=.club.example; Path=/',
    'a=1; Path=/wp-admin/',
    'a=1; Domain=WWW.club.example',
  ])
    assert.equal(fault(line), undefined, line);
  for (const line of [
    'a=1; Domain=old.example',
    'a=1; Domain=lub.example',
    'a=1; path=/site/',
    'a=1; Path=/site',
  ])
    assert.ok(fault(line), line);
  assert.equal(fault('a=1; Path=/', '/blog'), undefined);
  assert.ok(fault('a=1; Path=/other', '/blog'));
  assert.equal(fault('a=1; Path=/site/', '/site'), undefined);
});
