import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { judged } from '../../../src/core/redirects/faults.js';
import { follow, mostHops, requestTo } from '../../../src/core/redirects/follow.js';
import { redirector } from '../../../src/core/redirects/redirect-of.js';
import { setOf, sets, type WrittenSet } from '../../help/redirect-sets.js';

const codes = (written: WrittenSet) =>
  judged(setOf(written)).findings.map(({ code, what }) => `${code}: ${what}`);
const same = { old: 'https://club.example', to: 'https://club.example' };

test('what leads in a circle is left out, whatever makes the circle', () => {
  const { set, findings } = judged(
    setOf({
      ...same,
      singles: [
        ['/a', '/b'],
        ['/b', '/c'],
        ['/c', '/b'],
        ['/self', '/self/'],
        ['/x', '/news/x'],
        ['/well', '/done'],
      ],
      rules: [{ from: '/news/:slug', to: '/:slug' }],
    }),
  );
  assert.deepEqual(
    set.singles.map(({ key }) => key),
    ['/well'],
  );
  assert.match(
    findings[0]!.what,
    /^5 lines of redirects\.csv lead in a circle and are left out: \/a, \/b, \/c, …/,
  );
  assert.match(
    codes({ ...same, rules: [{ from: '/:a/:b', to: '/:b/:a' }] })[0]!,
    /^redirect-loops: The rule/,
  );
  assert.match(
    codes({
      ...same,
      rules: [
        { from: '/a/:x', to: '/b/:x' },
        { from: '/b/:x', to: '/a/:x' },
      ],
    })[0]!,
    /^redirect-loops/,
  );
  const outward = { old: 'https://club.example/blog', to: 'https://club.example' };
  assert.match(codes({ ...outward, rules: [{ from: '/x/:a', to: '/blog/x/:a' }] })[0]!, /^redirect-loops/);
  assert.deepEqual(codes({ ...same, rules: [{ from: '/:year(\\d{4})/:slug.html', to: '/:slug/' }] }), []);
});

test('a rule that never comes to its turn is found, and one that can never match', () => {
  const rules = (...from: string[]) => from.map(one => ({ from: one, to: '/x' }));
  const place = { old: 'https://old.example', to: 'https://new.example' };
  const cases: [string[], RegExp | undefined][] = [
    [['/:slug', '/news'], /shadowed: The rule "\/news" never comes .*"\/:slug"/],
    [['/*', '/:year(\\d{4})/:slug'], /shadowed/],
    [['/:id(\\d+)', '/:id(\\d{2})'], /shadowed/],
    [['/:id(\\d{2})', '/:id(\\d+)'], undefined],
    [['/news', '/:slug'], undefined],
    [['news/:slug'], /never/],
  ];
  for (const [from, wanted] of cases) {
    const found = codes({ ...place, rules: rules(...from) });
    if (wanted) assert.match(found.join('\n'), wanted, from.join(' '));
    else assert.deepEqual(found, [], from.join(' '));
  }
});

test('no request is redirected for ever, whatever lines and rules there are', () => {
  const to = fc.constantFrom(
    'http://old.example',
    'https://old.example',
    'https://old.example/blog',
    'https://www.old.example',
    'https://new.example',
  );
  const old = fc.constantFrom(
    'http://old.example',
    'https://old.example',
    'https://old.example/blog',
    'https://www.old.example',
  );
  const path = fc.constantFrom('/a', '/b', '/blog', '/blog/a', '/news/a', '/2020/a', '/a/b', '/');
  const single = fc
    .tuple(path, fc.oneof(path, fc.constantFrom('https://www.old.example/a', 'http://old.example/b')))
    .map(([from, target]) => [from, target] as const);
  const pattern = fc.constantFrom('/:a', '/:a/:b', '/news/:a', '/:year(\\d{4})/:a', '/blog/:a', '/*');
  const target = fc.constantFrom(
    '/a',
    '/:a',
    '/news/:a',
    '/blog/:a',
    '/b/:a',
    '/2020/:a',
    'http://old.example/:a',
    '/:0',
  );
  const rule = fc
    .tuple(pattern, target)
    .filter(([from, into]) =>
      [...into.matchAll(/:(a|0)/g)].every(([, name]) =>
        name === '0' ? from.includes('*') : from.includes(':a'),
      ),
    );
  fc.assert(
    fc.property(
      old,
      to,
      fc.array(single, { maxLength: 5 }),
      fc.array(rule, { maxLength: 3 }),
      (from, into, singles, rules) => {
        const { set } = judged(
          setOf({
            old: from,
            to: into,
            singles,
            rules: rules.map(([pattern, t]) => ({ from: pattern, to: t })),
          }),
        );
        const answers = redirector(set);
        for (const host of ['http://old.example', 'https://old.example', 'https://www.old.example'])
          for (const at of [
            '/',
            '/a',
            '/b',
            '/blog/',
            '/blog/a',
            '/news/a',
            '/2020/a',
            '/blog/news/a',
            '/a/b',
            '/news/news/b',
            '/blog/2020/x?y=1',
          ]) {
            const { hops, isLoop } = follow(answers, host + at);
            assert.ok(!isLoop, `${host}${at}: ${hops.map(hop => hop.target).join(' → ')}`);
            assert.ok(hops.length <= mostHops);
          }
      },
    ),
    { numRuns: 1_500 },
  );
});

test('sets as sheets give them stay the same but for what circles', () => {
  fc.assert(
    fc.property(sets(), written => {
      const set = setOf(written);
      const { set: after } = judged(set);
      assert.ok(after.singles.length <= set.singles.length);
      if (written.to.includes('new.example')) assert.deepEqual(after, set);
    }),
    { numRuns: 40 },
  );
});

test('a URL is asked for as servers get it', () => {
  assert.deepEqual(requestTo('https://a.example?x=1'), {
    method: 'GET',
    scheme: 'https',
    host: 'a.example',
    uri: '/?x=1',
  });
  assert.equal(requestTo('http://a.example:8080/x#y').uri, '/x');
});
