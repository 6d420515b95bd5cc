import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parsePair } from '../../../../src/core/address/pairs.js';
import { applyEdits, asBytes, bytesOfText, textOf } from '../../../../src/core/bytes.js';
import { editsInValue } from '../../../../src/core/rewrite/carriers/value.js';
import { observerOf } from '../../../../src/core/rewrite/report/observer.js';
import { Tally } from '../../../../src/core/rewrite/report/tally.js';
import { compileRules, type RuleOptions } from '../../../../src/core/rewrite/terms/rules.js';
import { ManySearch } from '../../../../src/core/search/many.js';
import { type Encodable, encodeSerialized } from '../../../../src/core/serialized/encode.js';
import { bench } from '../../../help/bench.js';
import { effort } from '../../../help/effort.js';

type Pairs = readonly (readonly [string, string])[];
const club: Pairs = [['https://old.example/site', 'https://new.example']];

function rewrite(text: string, pairs: Pairs = club, options: RuleOptions = {}) {
  const rules = compileRules(
    bench,
    pairs.map(([from, to]) => parsePair(from, to)),
    options,
  );
  const place = new Tally().at('t', 'c');
  const bytes = bytesOfText(text);
  const after = applyEdits(bytes, editsInValue(bytes, rules, observerOf(place)));
  return { text: textOf(after), place };
}

const forms: [form: string, before: string, after: string][] = [
  ['plain', 'see https://old.example/site/a?b=c#d.', 'see https://new.example/a?b=c#d.'],
  ['plain', 'http://old.example/site', 'https://new.example'],
  ['plain', 'HTTPS://OLD.Example/site/', 'https://new.example/'],
  ['plain', 'https://old.example:443/site/x', 'https://new.example/x'],
  ['plain', 'http://old.example:80/site/x', 'https://new.example/x'],
  ['plain', '“https://old.example/site”', '“https://new.example”'],
  ['plain', 'Go to https://old.example/site.', 'Go to https://new.example.'],
  ['schemeless', '<img src="//old.example/site/a.png">', '<img src="//new.example/a.png">'],
  ['json-escaped', '{"u":"https:\\/\\/old.example\\/site\\/a"}', '{"u":"https:\\/\\/new.example\\/a"}'],
  ['json-escaped', 'https:\\\\\\/\\\\\\/old.example\\\\\\/site', 'https:\\\\\\/\\\\\\/new.example'],
  ['unicode-escaped', '"https:\\u002F\\u002Fold.example\\u002fsite"', '"https:\\u002F\\u002Fnew.example"'],
  ['percent-encoded', '?u=https%3A%2F%2Fold.example%2Fsite%2Fa', '?u=https%3A%2F%2Fnew.example%2Fa'],
  ['percent-encoded', '?u=https%3a%2f%2fold.example%2fsite', '?u=https%3a%2f%2fnew.example'],
  ['percent-encoded', 'https%253A%252F%252Fold.example%252Fsite', 'https%253A%252F%252Fnew.example'],
  ['root-relative', '<a href="/site/a">', '<a href="/a">'],
  ['root-relative', "<img src='/site'>", "<img src='/'>"],
  ['root-relative', '{"url":"\\/site\\/a.png"}', '{"url":"\\/a.png"}'],
  ['root-relative', 'a{background:url(/site/x.png)}', 'a{background:url(/x.png)}'],
  ['root-relative', '<img srcset="/a.png 1x, /site/b.png 2x">', '<img srcset="/a.png 1x, /b.png 2x">'],
  ['root-relative', '<div data-bg-url=&quot;/site/b.png&quot;>', '<div data-bg-url=&quot;/b.png&quot;>'],
  ['root-relative', '@import "/site/print.css";', '@import "/print.css";'],
  ['root-relative', '<object type="x" data="/site/a.svg">', '<object type="x" data="/a.svg">'],
  ['root-relative', "<meta content='5; url=/site/b'>", "<meta content='5; url=/b'>"],
  ['root-relative', 'User-agent: *\nDisallow: /site/wp-admin/', 'User-agent: *\nDisallow: /wp-admin/'],
  ['root-relative', "fetch('/site/wp-json/x')", "fetch('/wp-json/x')"],
  ['root-relative', 'location.href = "/site/a";', 'location.href = "/a";'],
  ['root-relative', 'import a from "/site/a.js";', 'import a from "/a.js";'],
  ['root-relative', 'x.open("GET", "\\/site\\/a")', 'x.open("GET", "\\/a")'],
  ['entity', 'https:&#x2F;&#x2F;old.example&#x2F;site&#x2F;', 'https:&#x2F;&#x2F;new.example&#x2F;'],
  ['entity', 'https&#58;&#47;&#47;old.example&#47;site', 'https&#58;&#47;&#47;new.example'],
];

for (const [form, before, after] of forms) {
  test(`${form}: ${before}`, () => {
    const { text, place } = rewrite(before);
    assert.equal(text, after);
    assert.deepEqual(place.forms, { [form]: 1 });
  });
}

const misses: [why: string, text: string][] = [
  ['longer host', 'https://old.example.net/site'],
  ['longer host', 'https://old.examples/site'],
  ['longer host', 'https://my-old.example/site'],
  ['sub-domain', 'https://www.old.example/site'],
  ['other port', 'https://old.example:8080/site'],
  ['other port', 'http://old.example:443/site'],
  ['other path', 'https://old.example/sitemap'],
  ['other path', 'https://old.example/site-2/'],
  ['other path', 'https://old.example/site.html'],
  ['other path', 'https://old.example/site%20x'],
  ['other path', 'https://old.example/'],
  ['other scheme', 'ftp://old.example/site'],
  ['mail address', 'mail secretary@old.example'],
  ['bare host', 'the host old.example is gone'],
  ['perhaps a link', 'var base = "/site/a";'],
  ['perhaps a link', "x.replace('/site/', '')"],
  ['perhaps a link', '<input value="/site/a">'],
];

for (const [why, text] of misses) {
  test(`near miss, ${why}: ${text}`, () => {
    const seen = rewrite(text);
    assert.equal(seen.text, text);
    assert.deepEqual(seen.place.misses, { [why]: 1 });
    assert.ok(seen.place.missSamples[why as 'bare host']);
  });
}

test('a character of a path may be percent-encoded that need not be', () => {
  const pairs: Pairs = [['https://old.example/~club', 'https://new.example']];
  const moved: [string, string][] = [
    ['https://old.example/%7Eclub/a', 'https://new.example/a'],
    ['https://old.example/%7eclub', 'https://new.example'],
    ['https:\\/\\/old.example\\/%7Eclub\\/a', 'https:\\/\\/new.example\\/a'],
    ['?u=https%3A%2F%2Fold.example%2F%7Eclub%2Fa', '?u=https%3A%2F%2Fnew.example%2Fa'],
    ['?u=https%253A%252F%252Fold.example%252F%257Eclub', '?u=https%253A%252F%252Fnew.example'],
    ['?u=https%3A%2F%2Fold.example%2F~club', '?u=https%3A%2F%2Fnew.example'],
    ['<a href="/%7Eclub/a">', '<a href="/a">'],
    ['a{background:url(/~club/x.png)}', 'a{background:url(/x.png)}'],
    ['https://old.example/%7Ecl%75b/', 'https://new.example/'],
  ];
  for (const [before, after] of moved) assert.equal(rewrite(before, pairs).text, after);
  assert.equal(
    rewrite('http://old.example/~club/', [['https://old.example/%7eclub', 'https://new.example']]).text,
    'https://new.example/',
  );
  for (const kept of [
    'https://old.example/%7Eclubs',
    'https://old.example/%257Eclub',
    'https://old.example/%7Fclub',
  ])
    assert.equal(rewrite(kept, pairs).text, kept);
  const accented: Pairs = [['https://old.example/été', 'https://new.example']];
  for (const path of ['%C3%A9t%C3%A9', '%c3%a9t%c3%a9', 'été'])
    assert.equal(rewrite(`https://old.example/${path}/a`, accented).text, 'https://new.example/a');
});

test('the longest match at a place wins, and output is not scanned again', () => {
  const pairs: Pairs = [
    ['https://a.example', 'https://b.example'],
    ['https://a.example/shop', 'https://c.example'],
    ['https://b.example', 'https://d.example'],
  ];
  assert.equal(
    rewrite('https://a.example/x https://a.example/shop/y https://b.example/z', pairs).text,
    'https://b.example/x https://c.example/y https://d.example/z',
  );
});

test('an old address that begins the new one is rewritten once, however often', () => {
  const pairs: Pairs = [['https://a.example', 'https://a.example/blog']];
  const once = rewrite('https://a.example/x and https://a.example and https:\\/\\/a.example\\/y', pairs).text;
  assert.equal(
    once,
    'https://a.example/blog/x and https://a.example/blog and https:\\/\\/a.example\\/blog\\/y',
  );
  assert.equal(rewrite(once, pairs).text, once);
});

test('internationalised hosts are found and written in Unicode and in punycode', () => {
  const pairs: Pairs = [['https://bücher.example', 'https://küste.example']];
  assert.equal(
    rewrite('https://bücher.example/a https://xn--bcher-kva.example/b', pairs).text,
    'https://küste.example/a https://xn--kste-0ra.example/b',
  );
});

test('a path is a link only where HTML, CSS or JSON puts one', () => {
  for (const text of [
    'see /site/a',
    'a/site/b',
    '<a href="/sitemap">',
    '<a href="//site/">',
    '/home/site/x',
    '"/site is down"x',
  ]) {
    const seen = rewrite(text);
    assert.equal(seen.text, text);
    assert.deepEqual(seen.place.misses, {});
  }
  const inward: Pairs = [['https://a.example/x', 'https://b.example/x/y']];
  const once = rewrite('<a href="/x/1"> <a href="/x/y/2">', inward).text;
  assert.equal(once, '<a href="/x/y/1"> <a href="/x/y/2">');
  assert.equal(
    rewrite('<a href="/x/1">', [['https://a.example/x', 'https://b.example/x']]).text,
    '<a href="/x/1">',
  );
  assert.equal(rewrite('s:18:"<a href="/site/a">";').text, 's:13:"<a href="/a">";');
});

test('it makes no difference that links are not looked for after a word', () => {
  const rules = compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')]);
  const { search, kinds, texts } = rules.anchors!;
  const everywhere = texts.map((text, i) => ({ text, anyCase: /host|path/.test(kinds[i]!) }));
  const others = { ...rules, anchors: { ...rules.anchors!, search: new ManySearch(bench, everywhere) } };
  const pieces =
    '/site|/site/a|"|href="|src=|url(|srcset="|a 1x,| |\\n|\n|\\|\\/site|_|a|9|é|https:/|/old.example|%2F|;|&quot;';
  const text = fc.array(fc.constantFrom(...pieces.split('|')), { maxLength: 20 }).map(list => list.join(''));
  let differing = 0;
  fc.assert(
    fc.property(text, one => {
      const bytes = bytesOfText(one);
      const seen = [rules, others].map(some => {
        const place = new Tally().at('t', 'c');
        const edits = editsInValue(bytes, some, observerOf(place));
        return { text: applyEdits(bytes, edits), forms: place.forms, misses: place.misses };
      });
      assert.deepEqual(seen[0], seen[1]);
      const places = [search, others.anchors.search].map(each => {
        let count = 0;
        each.each(bytes, () => count++);
        return count;
      });
      if (places[0]! < places[1]!) differing++;
    }),
    { numRuns: effort(3000, 100_000) },
  );
  assert.ok(differing > 300, `${differing} texts had links' starts after words`);
});

test('mail addresses move when asked', () => {
  assert.equal(
    rewrite('a@old.example', [['https://old.example', 'https://new.example']], { mail: true }).text,
    'a@new.example',
  );
});

test('bare hosts move when asked, with a path where one follows, and in the scope of a cookie', () => {
  const cases: [string, string][] = [
    ['the host old.example is', 'the host new.example is'],
    ['.old.example', '.new.example'],
    ['OLD.example/site/a', 'new.example/a'],
    ['old.example\\/site', 'new.example'],
    ['old.example/other', 'old.example/other'],
    ['old.example:8080', 'old.example:8080'],
    ['www.old.example', 'www.old.example'],
    ['my-old.example', 'my-old.example'],
    ['me@old.example', 'me@old.example'],
    ['https://old.example/site', 'https://new.example'],
  ];
  for (const [before, after] of cases) assert.equal(rewrite(before, club, { bareHosts: true }).text, after);
});

test('server paths move in every slash form, at segment boundaries', () => {
  const pairs: Pairs = [['/home/porter/htdocs', '/srv/www']];
  assert.equal(
    rewrite(
      '/home/porter/htdocs/a "\\/home\\/porter\\/htdocs" /home/porter/htdocs2 /x/home/porter/htdocs',
      pairs,
    ).text,
    '/srv/www/a "\\/srv\\/www" /home/porter/htdocs2 /x/home/porter/htdocs',
  );
});

test('a port of the new address is written in the form that was found', () => {
  const pairs: Pairs = [['https://old.example', 'http://new.example:8080/s']];
  assert.equal(
    rewrite('https://old.example/a https%3A%2F%2Fold.example%2Fb', pairs).text,
    'http://new.example:8080/s/a http%3A%2F%2Fnew.example%3A8080%2Fs%2Fb',
  );
});

const address = fc.constantFrom(
  'https://old.example/site',
  'https:\\/\\/old.example\\/site',
  '//old.example/site',
  'https%3A%2F%2Fold.example%2Fsite',
);
const moved: Record<string, string> = {
  'https://old.example/site': 'https://new.example',
  'https:\\/\\/old.example\\/site': 'https:\\/\\/new.example',
  '//old.example/site': '//new.example',
  'https%3A%2F%2Fold.example%2Fsite': 'https%3A%2F%2Fnew.example',
};
/** Text with addresses sown in, as a list of pieces, so that what is expected is known without rewriting. */
const sown = fc.array(
  fc.oneof(
    fc.string({ unit: 'grapheme' }).map(text => [text, text]),
    address.map(text => [` ${text} `, ` ${moved[text]} `]),
  ),
  { maxLength: 5 },
);
const sownText = sown.map(pieces => ({
  before: `.${pieces.map(([before]) => before).join('')}`,
  after: `.${pieces.map(([, after]) => after).join('')}`,
}));

interface Both {
  readonly before: Encodable;
  readonly after: Encodable;
}

/** Random nested values, each beside what it should become; some strings are themselves serialized. */
const { value: nested } = fc.letrec<{ value: Both }>(tie => ({
  value: fc.oneof(
    { maxDepth: 4, withCrossShrink: true },
    sownText,
    fc.oneof(fc.integer(), fc.boolean(), fc.constant(null)).map(plain => ({ before: plain, after: plain })),
    fc
      .array(tie('value'), { maxLength: 4 })
      .map(list => ({ before: list.map(one => one.before), after: list.map(one => one.after) })),
    fc.dictionary(fc.stringMatching(/^[a-z]{1,6}$/), tie('value'), { maxKeys: 4 }).map(record => ({
      before: Object.fromEntries(Object.entries(record).map(([key, one]) => [key, one.before])),
      after: Object.fromEntries(Object.entries(record).map(([key, one]) => [key, one.after])),
    })),
    tie('value').map(one => ({
      before: textOf(encodeSerialized(one.before)),
      after: textOf(encodeSerialized(one.after)),
    })),
  ),
}));

test('serialized values at any depth come out as if rewritten and serialized again', () => {
  fc.assert(
    fc.property(nested, ({ before, after }) => {
      assert.equal(rewrite(textOf(encodeSerialized(before))).text, textOf(encodeSerialized(after)));
    }),
    { numRuns: 1500 },
  );
});

test('serialized values inside JSON get their lengths right, and the JSON keeps its style', () => {
  fc.assert(
    fc.property(nested, fc.boolean(), ({ before, after }, escapes) => {
      const carry = (value: Encodable) => {
        const json = JSON.stringify({ a: [textOf(encodeSerialized(value)), 'b'] });
        return escapes ? json.replaceAll('/', '\\/') : json;
      };
      assert.equal(rewrite(carry(before)).text, carry(after));
    }),
    { numRuns: 500 },
  );
});

/** What may be before and after a serialized value, with what looks like the begin of another. */
const litter = fc
  .array(
    fc.oneof(
      fc.uint8Array({ maxLength: 20 }).map(bytes => Buffer.from(bytes).toString('latin1')),
      fc.constantFrom(
        's:5:"',
        's:99999:"',
        'a:2:{',
        'O:3:"',
        'C:3:"A":9:{',
        'name|',
        '"',
        '{"a":"',
        '";',
        '}',
        '\\',
      ),
      fc.constantFrom('\xff\xfe', 'v1:', '<!-- x -->', 's:3:\\"', 's:2:"é', '\0', "';", ' /site '),
    ),
    { maxLength: 4 },
  )
  .map(pieces => pieces.join(''));

test('whatever is before and after a serialized value, escaped or not, its lengths are put right', () => {
  const rules = compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')]);
  const escapings = [
    (value: string) => value,
    (value: string) => `{"a":${JSON.stringify(value)}}`,
    (value: string) => `[${JSON.stringify(`{"a":${JSON.stringify(value)}}`).replaceAll('/', '\\/')}]`,
  ];
  fc.assert(
    fc.property(
      litter,
      nested,
      litter,
      fc.constantFrom(...escapings),
      (left, { before, after }, right, escaped) => {
        const around = (value: Encodable) =>
          // What begins as a serialized value and is none is left as a whole.
          bytesOfText(`.${left}${escaped(textOf(encodeSerialized(value)))}${right}`);
        const bytes = around(before);
        const place = new Tally().at('t', 'c');
        const rewritten = applyEdits(bytes, editsInValue(bytes, rules, observerOf(place)));
        assert.equal(textOf(rewritten), textOf(around(after)));
        assert.equal(place.damaged, 0);
      },
    ),
    { numRuns: effort(3000, 100_000) },
  );
});

test('a string in text whose length does not fit is left and reported, and what is around it is not', () => {
  for (const head of ['\xff\xfe', 'v1:', '<!-- x -->', '{"a":1,"b":', '\0'.repeat(256)]) {
    const around = (value: string, url: string) => `${head}${value}, https://${url}/a`;
    for (const broken of ['s:99:"https://old.example/site";', 's:3:"https://old.example/site/x";']) {
      const { text, place } = rewrite(around(broken, 'old.example/site'));
      assert.equal(text, around(broken, 'new.example'));
      assert.equal(place.damaged, 1);
    }
    const { text } = rewrite(around('s:5:"tides";', 'old.example/site'));
    assert.equal(text, around('s:5:"tides";', 'new.example'));
  }
});

test('rewriting twice equals rewriting once, and a value without a match is unchanged', () => {
  fc.assert(
    fc.property(nested, ({ before }) => {
      const once = rewrite(textOf(encodeSerialized(before))).text;
      assert.equal(rewrite(once).text, once);
      assert.equal(rewrite(once, [['https://elsewhere.example', 'https://x.example']]).text, once);
    }),
  );
});

test('any bytes around an address do no harm: only the match changes', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 60 }), fc.uint8Array({ maxLength: 60 }), (left, right) => {
      const bytes = asBytes(
        `${Buffer.from(left).toString('latin1')} https://old.example/site ${Buffer.from(right).toString('latin1')}`,
      );
      const rules = compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')]);
      const edits = editsInValue(bytes, rules, observerOf(new Tally().at('t', 'c')));
      const rest = (s: string) => s.split(/https:\/\/(?:old\.example\/site|new\.example)/).join('|');
      assert.equal(rest(applyEdits(bytes, edits)), rest(bytes));
    }),
    { numRuns: 2000 },
  );
});

test('damaged serialized values are left byte for byte and reported', () => {
  for (const broken of [
    'a:1:{s:4:"logo";s:10:"https://old.example/site/logo.png";}',
    'a:2:{i:0;s:24:"https://old.example/site";',
    's:99:"https://old.example/site";',
    'O:3:"A":1:{s:1:"u";s:24:"https://old.example/site";',
  ]) {
    const { text, place } = rewrite(broken);
    assert.equal(text, broken);
    assert.equal(place.damaged, 1);
  }
});

test('objects, references, enums, custom payloads and sessions keep their shape', () => {
  const cases: [string, string][] = [
    [
      'O:8:"Club\\App":2:{s:6:"\0*\0url";s:26:"https://old.example/site/a";s:4:"self";r:1;}',
      'O:8:"Club\\App":2:{s:6:"\0*\0url";s:21:"https://new.example/a";s:4:"self";r:1;}',
    ],
    [
      'a:2:{i:0;E:9:"Tide:High";i:1;s:24:"https://old.example/site";}',
      'a:2:{i:0;E:9:"Tide:High";i:1;s:19:"https://new.example";}',
    ],
    [
      'C:3:"Box":38:{x:i:0;s:24:"https://old.example/site";}',
      'C:3:"Box":33:{x:i:0;s:19:"https://new.example";}',
    ],
    [
      'user|a:1:{s:1:"u";s:24:"https://old.example/site";}n|i:1;',
      'user|a:1:{s:1:"u";s:19:"https://new.example";}n|i:1;',
    ],
    ['s:+24:"https://old.example/site";', 's:+19:"https://new.example";'],
    [
      'a:3:{i:0;d:INF;i:1;d:-1.5E-7;i:2;s:24:"https://old.example/site";}\n',
      'a:3:{i:0;d:INF;i:1;d:-1.5E-7;i:2;s:19:"https://new.example";}\n',
    ],
  ];
  for (const [before, after] of cases) assert.equal(rewrite(before).text, after);
});

test('a value with hundreds of thousands of addresses is rewritten like any other', () => {
  const many = 'https://old.example/site '.repeat(300_000);
  assert.equal(rewrite(many).text, 'https://new.example '.repeat(300_000));
  assert.equal(
    rewrite(`x|${textOf(encodeSerialized([many]))}${many}`).text.split('https://new.example ').length,
    600_001,
  );
  assert.equal(rewrite(`${textOf(encodeSerialized('a'))}${many}`).place.pairs[0], 300_000);
});

test('hostile values end in a finding or unchanged, never in a crash or a hang', () => {
  const deep = `${'a:1:{i:0;'.repeat(10_000)}s:24:"https://old.example/site";${'}'.repeat(10_000)}`;
  assert.ok(rewrite(deep).text.includes('s:19:"https://new.example"'));
  const unclosed = `${'a:1:{i:0;'.repeat(200_000)}https://old.example/site`;
  assert.equal(rewrite(unclosed).text, unclosed);
  const huge = 's:1000000000000000000:"https://old.example/site";';
  assert.equal(rewrite(huge).text, huge);
  let boxes = 's:24:"https://old.example/site";';
  for (let n = 0; n < 5000; n++) boxes = `C:1:"A":${boxes.length}:{${boxes}}`;
  assert.equal(rewrite(boxes).text, boxes);
  assert.equal(rewrite(boxes).place.damaged, 1);
  let strings = 'https://old.example/site';
  for (let n = 0; n < 5000; n++) strings = `s:${strings.length}:"${strings}";`;
  assert.equal(rewrite(strings).text, strings);
  const heads = `x|a:1:{${'a:1:{'.repeat(50_000)}https://old.example/site`;
  assert.ok(rewrite(heads).text.endsWith('https://new.example'));
});
