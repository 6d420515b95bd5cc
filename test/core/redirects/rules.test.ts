import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { URLPattern } from 'urlpattern-polyfill';
import { parseAddress } from '../../../src/core/address/address.js';
import { expressionOf } from '../../../src/core/redirects/rules/expression.js';
import { parseRule } from '../../../src/core/redirects/rules/redirect-rule.js';
import { parsePathPattern } from '../../../src/core/redirects/rules/url-pattern.js';

const to = parseAddress('https://new.example');

/** Parts of patterns, with what they may match. */
const text = fc.constantFrom('a', 'bc', 'news', 'ü', 'x y', '.html', '-', "it's", '\\:', '\\*', '~', '2019');
const name = fc.constantFrom(
  ':a',
  ':b',
  ':year(\\d{4})',
  ':lang(de|en)',
  ':id([a-z0-9]+)',
  '(\\d+)',
  '*',
  ':rest(.*)',
);
/** Groups that may be repeated: where they match texts of any length, the package takes very long. */
const short = fc.constantFrom(':year(\\d{4})', ':lang(de|en)');
const once = fc.constantFrom('', '', '?');
const often = fc.constantFrom('*', '+');
const joined = (parts: readonly string[]) => parts.join('');
const piece = fc.oneof(
  text,
  fc.tuple(fc.constant('{'), text, fc.constant('}'), fc.oneof(once, often)).map(joined),
  fc.tuple(name, once).map(joined),
  fc.tuple(fc.constant('/'), fc.oneof(short, fc.constant(':c')), often).map(joined),
  fc.tuple(fc.constant('{'), text, name, text, fc.constant('}'), once).map(joined),
  fc.tuple(fc.constant('{'), text, short, text, fc.constant('}'), often).map(joined),
);
const pattern = fc
  .array(fc.tuple(fc.constantFrom('/', '/', ''), piece).map(joined), { minLength: 1, maxLength: 4 })
  .map(parts => `/${joined(parts).replace(/\/+/g, '/').replace(/^\//, '')}`);
const path = fc
  .array(
    fc.constantFrom(
      '/',
      '/',
      'a',
      'b',
      'bc',
      'news',
      '%C3%BC',
      'x%20y',
      '.html',
      '-',
      "it's",
      ':',
      '*',
      '~',
      '2019',
      'de',
      '7',
      'z9',
    ),
    { maxLength: 9 },
  )
  // The package takes doubled slashes for a host.
  .map(parts => `/${parts.join('')}`.replace(/\/+/g, '/'));

/** What the package makes of a pattern; undefined where it is none. */
function byStandard(written: string): InstanceType<typeof URLPattern> | undefined {
  try {
    return new URLPattern({ pathname: written });
  } catch {
    return undefined;
  }
}

test('patterns match what the standard says, and a closing slash more or less', () => {
  let matched = 0;
  fc.assert(
    fc.property(pattern, fc.array(path, { minLength: 20, maxLength: 20 }), (written, paths) => {
      // The same group may not occur twice; the package has the last word on that.
      const standard = byStandard(written);
      let ours: ReturnType<typeof parsePathPattern>;
      try {
        ours = parsePathPattern(written);
      } catch (error) {
        const isCareful = /repeats what repeats/.test(String(error));
        assert.ok(isCareful || standard === undefined, `${written}: ${error}`);
        return;
      }
      assert.ok(standard, `${written} is none`);
      const expression = new RegExp(`^${expressionOf({ parts: ours })}$`, 's');
      for (const one of paths) {
        const other = one.endsWith('/') ? one.slice(0, -1) : `${one}/`;
        const wanted = standard.exec({ pathname: one });
        const found = expression.exec(one);
        const isEither = wanted !== null || standard.test({ pathname: other });
        assert.ok(found ? isEither : !wanted, `${written} on ${one}: ${expression.source}`);
        if (!wanted || !found) continue;
        matched++;
        const groups = ours.flatMap(({ group }) => (group ? [group.name] : []));
        if (!written.endsWith('*') && !one.endsWith('/'))
          for (const [i, group] of groups.entries())
            assert.equal(
              found[i + 1] ?? '',
              wanted.pathname.groups[group] ?? '',
              `${written} on ${one}: ${group}`,
            );
      }
    }),
    { numRuns: 3_000 },
  );
  assert.ok(matched > 1_000, `${matched} matched`);
});

test('what only some web servers understand, or what takes them very long, is no rule', () => {
  const refused: Record<string, RegExp> = {
    '/:a(?=b)': /understands/,
    '/:a((?:a+)+)': /repeats what repeats/,
    '/:a((?:x|a*){2,})': /repeats what repeats/,
    '/:a(\\p{L}+)': /understands/,
    '/:a(\\1)': /understands/,
    '/:a([[a]])': /understands/,
    '/:a(^a)': /understands/,
    '/:a/:a': /occurs twice/,
    '/:': /no name/,
    '/{a': /not closed/,
    '/(a': /not closed/,
    '/?p=:id': /line of redirects\.csv/,
    '/a+': /repeats nothing/,
    '/a\\': /backslash/,
    '/a/()': /empty/,
  };
  for (const [written, why] of Object.entries(refused))
    assert.throws(() => parsePathPattern(written), why, written);
  assert.doesNotThrow(() => parsePathPattern('/:a((?:\\d{2}-)?[a-z_%~.]+)/:b(a|b|c{2,3})'));
});

test('a target names the groups of its rule, and nothing else', () => {
  const rule = parseRule(
    { from: '/:year(\\d{4})/:slug', to: 'https://other.example:8080/:slug?in=:year#:slug' },
    to,
  );
  assert.deepEqual(rule.target, ['https://other.example:8080/', 1, '?in=', 0, '#', 1]);
  assert.deepEqual(parseRule({ from: '/old/*', to: '/new $/:0' }, to).target, [
    'https://new.example/new%20%24/',
    0,
  ]);
  assert.throws(() => parseRule({ from: '/:a', to: '/:b' }, to), /which its "from" does not have/);
  assert.throws(() => parseRule({ from: '/:a' }, to), /has no "to"/);
  assert.throws(() => parseRule({ from: '/a', to: 'ftp://x.example' }, to), /neither a path nor a URL/);
  assert.throws(
    () =>
      parseRule(
        { from: '/a{:b}*'.repeat(1) + Array.from({ length: 9 }, (_, i) => `/:g${i}`).join(''), to: '/' },
        to,
      ),
    /more than 9/,
  );
});
