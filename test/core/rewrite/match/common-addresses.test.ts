import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parsePair } from '../../../../src/core/address/pairs.js';
import { applyEdits, asBytes } from '../../../../src/core/bytes.js';
import { DumpRewriter } from '../../../../src/core/rewrite/carriers/dump.js';
import { editsInValue } from '../../../../src/core/rewrite/carriers/value.js';
import { unnoted } from '../../../../src/core/rewrite/report/observer.js';
import { compileRules } from '../../../../src/core/rewrite/terms/rules.js';
import { escapeForLiteral } from '../../../../src/core/sql/literal.js';
import { bench } from '../../../help/bench.js';

/** Pairs of every kind that the kernels know or must leave: paths, ports, hosts in one another, an address kept. */
const ruleSets = [
  [['https://old.example/site', 'https://new.example']],
  [['https://old.example', 'http://newer.example:8080/a/b']],
  [
    ['https://old.example/site', 'https://new.example'],
    ['/home/old', '/srv'],
    ['http://site.example', 'http://x.example'],
  ],
  [
    ['https://old.example/a.b/c', 'https://bücher.example/c'],
    ['https://bücher.example', 'https://old.example/a.b/c'],
    ['https://sub.old.example', 'https://n.example'],
  ],
  [['https://old.example', 'https://old.example/blog']],
  [
    ['https://old.example/~a', 'https://new.example/x'],
    ['https://old.example', 'https://other.example'],
  ],
  [
    ['https://old.example:8080', 'https://n.example'],
    ['https://old.example/site/deep', 'https://m.example/x'],
  ],
].map(pairs =>
  compileRules(
    bench,
    pairs.map(([from, to]) => parsePair(from!, to!)),
  ),
);

/** Nearly always the first one. */
const mostly = (usual: string, ...others: string[]) =>
  fc.oneof(
    { weight: 4, arbitrary: fc.constant(usual) },
    { weight: 1, arbitrary: fc.constantFrom(...others) },
  );
const slash = mostly('/', '\\/', '\\\\\\/', '%2F', '&#x2F;');
const address = fc
  .tuple(
    mostly('https', 'http', 'HTTPS', 'xhttp', 'ftp', ''),
    mostly(':', '%3A', ''),
    slash,
    mostly(
      'old.example',
      'OLD.example',
      'site.example',
      'bücher.example',
      'xn--bcher-kva.example',
      'sub.old.example',
    ),
    mostly('', ':80', ':443', ':8080', '.', '.x', '-x', '%20'),
    mostly('/site', '', '/a.b/c', '/site/deep', '/blog', '/~a', '/%7Ea'),
    fc.constantFrom('', '/x', '.', '.html', '-2', '"', ' ', '?a=b', '\n', 'é', '”', '~', '%20', '%2f', "'"),
  )
  .map(([scheme, colon, unit, host, port, path, tail]) =>
    [scheme, colon, unit, unit, host, port, path.replaceAll('/', unit), tail].join(''),
  );
const piece = fc.oneof(
  { weight: 3, arbitrary: address },
  fc.constantFrom(
    'word ',
    'home',
    '/home/old/x',
    'href="/site/',
    ' /sitemap',
    '\\',
    '%',
    '_',
    'é',
    'aHR0cHM6Ly9vbGQuZXhhbXBsZS9zaXRl',
    'x@old.example ',
    '{"a":"',
    '[',
    '|',
    'a:b',
    's:4:"',
    's:24:\\"',
    'href="/%7Ea/',
  ),
);
const bytes = (text: string) => Buffer.from(text).toString('latin1');
const text = fc.array(piece, { minLength: 1, maxLength: 6 }).map(list => bytes(list.join('')));
const string = (content: string) => `s:${content.length}:"${content}";`;
const serialized = fc.letrec<{ value: string }>(tie => ({
  value: fc.oneof(
    { maxDepth: 3 },
    text.map(string),
    fc.constantFrom('i:-5;', 'b:1;', 'N;', 'd:0.5;', 'd:INF;', 'R:1;', 'b:2;', 's:3:"ab";', 's:02:"ab";'),
    fc
      .array(tie('value'), { maxLength: 3 })
      .map(list => `a:${list.length}:{${list.map((one, i) => `i:${i};${one}`).join('')}}`),
    fc
      .array(tie('value'), { maxLength: 2 })
      .map(list => `O:3:"Foo":${list.length}:{${list.map(one => `s:1:"k";${one}`).join('')}}`),
    tie('value').map(string),
  ),
})).value;
const value = fc.oneof(
  text,
  serialized,
  serialized.map(one => `pre|${one}`),
  text.map(one => `{"a":"${one}"}`),
);

/** Rewrites a dump of some rows; gives the text and the counts of its column. */
function rewritten(rules: (typeof ruleSets)[number], rows: readonly string[]) {
  const out: string[] = [];
  const rewriter = new DumpRewriter({ rules }, chunk => out.push(chunk.toString('latin1')));
  rewriter.push(Buffer.from(`INSERT INTO t (c) VALUES\n${rows.join(',\n')};\n`, 'latin1'));
  rewriter.finish();
  return {
    rows: out
      .join('')
      .replace(/;\n$/, '')
      .split(/,\n(?=\()|VALUES\n/)
      .slice(1),
    place: rewriter.tally.all()[0]!,
  };
}

test('what the kernels rewrite is what is rewritten without them, and counted so', () => {
  fc.assert(
    fc.property(fc.constantFrom(...ruleSets), value, fc.boolean(), (rules, one, doubled) => {
      const escaped = escapeForLiteral(one, { backslash: true });
      const row = `('${doubled ? escaped.replaceAll("\\'", "''") : escaped}')`;
      // The first changes of a column are looked at in JavaScript, for their samples; those after them in the kernels.
      const known = `('${bytes(rules.pairs[0]!.from)}')`;
      const alone = rewritten(rules, [row]);
      const first = rewritten(rules, [known, known, known]);
      const after = rewritten(rules, [known, known, known, row]);
      assert.equal(after.rows[3], alone.rows[0]);
      const counts = ({ place }: typeof alone) => {
        const { seen, changed, damaged, forms, misses, pairs } = place;
        return { seen, changed, damaged, ...forms, ...misses, ...pairs } as Record<string, number>;
      };
      const sum = counts(first);
      for (const [what, count] of Object.entries(counts(alone))) sum[what] = (sum[what] ?? 0) + count;
      assert.deepEqual(counts(after), sum);
    }),
    { numRuns: 4000 },
  );
});

test('values longer than what the kernels hold at once are rewritten alike', () => {
  const rules = ruleSets[0]!;
  const link = 'see https://old.example/site/page and more of it ';
  for (const length of [30_000, 90_000, 200_000, 1_100_000, 3_900_000, 4_300_000]) {
    const long = link.repeat(length / link.length);
    const both = [long, `a:2:{i:0;${string(long)}i:1;${string('x')}}`];
    const { rows } = rewritten(
      rules,
      [...both, ...both, ...both, ...both].map(one => `('${escapeForLiteral(one, { backslash: true })}')`),
    );
    const wanted = both.map(one => applyEdits(asBytes(one), editsInValue(asBytes(one), rules, unnoted)));
    for (const [i, row] of rows.entries())
      assert.ok(
        row === `('${escapeForLiteral(wanted[i % 2]!, { backslash: true })}')`,
        `row ${i} of ${length}`,
      );
  }
});

test('an edit too large for the memory of the kernels loses none of those around it', () => {
  const rules = compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')], {
    openBase64: true,
  });
  const link = 'see https://old.example/site/a ';
  const large = Buffer.from(link.repeat(40_000)).toString('base64');
  const moved = Buffer.from(link.repeat(40_000).replaceAll('old.example/site', 'new.example')).toString(
    'base64',
  );
  const { rows } = rewritten(
    rules,
    [link, link, link, link, large, link, link].map(one => `('${one}')`),
  );
  const after = link.replace('old.example/site', 'new.example');
  assert.ok(
    rows.join() === [after, after, after, after, moved, after, after].map(one => `('${one}')`).join(),
  );
});
