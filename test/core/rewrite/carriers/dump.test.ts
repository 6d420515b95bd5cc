import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parsePair } from '../../../../src/core/address/pairs.js';
import { applyEdits, asBytes, type ByteString, bytesOfText } from '../../../../src/core/bytes.js';
import { DumpRewriter } from '../../../../src/core/rewrite/carriers/dump.js';
import { editsInValue } from '../../../../src/core/rewrite/carriers/value.js';
import { observerOf } from '../../../../src/core/rewrite/report/observer.js';
import { Tally } from '../../../../src/core/rewrite/report/tally.js';
import { compileRules } from '../../../../src/core/rewrite/terms/rules.js';
import { type Encodable, encodeSerialized } from '../../../../src/core/serialized/encode.js';
import { wordpressColumns } from '../../../../src/core/site/data/family-columns.js';
import { escapeForLiteral } from '../../../../src/core/sql/literal.js';
import { bench } from '../../../help/bench.js';

const rules = compileRules(bench, [
  parsePair('https://old.example/site', 'https://new.example'),
  parsePair('/home/old/htdocs', '/srv/www'),
]);

/** The ways in which dump programs write a string between single quotes. */
const writings: Record<string, (value: ByteString) => string> = {
  'all escaped': value => escapeForLiteral(value, { backslash: true }),
  'double quotes bare': value => escapeForLiteral(value, { backslash: true }).replaceAll('\\"', '"'),
  'single quotes doubled': value => escapeForLiteral(value, { backslash: true }).replaceAll("\\'", "''"),
  'line ends bare': value =>
    value
      .split('\n')
      .map(line => escapeForLiteral(line, { backslash: true }))
      .join('\n'),
};

const piece = fc.constantFrom(
  'https://old.example/site/a',
  'https:\\/\\/old.example\\/site',
  '//old.example/site',
  '/home/old/htdocs/x',
  'https%3A%2F%2Fold.example%2Fsite',
  "'",
  '"',
  '\\',
  '\n',
  '\0',
  'é',
  '%',
  '_',
  ';',
  '}',
  's:5:"',
  'old.example',
  ' ',
);
const text = fc
  .array(fc.oneof(piece, fc.string({ maxLength: 6 })), { maxLength: 8 })
  .map(pieces => pieces.join(''));
const { value } = fc.letrec<{ value: Encodable }>(tie => ({
  value: fc.oneof(
    { maxDepth: 3 },
    text,
    fc.integer(),
    fc.array(tie('value'), { maxLength: 4 }),
    fc.dictionary(fc.stringMatching(/^[a-z"'\\]{1,5}$/), tie('value'), { maxKeys: 3 }),
    tie('value').map(inner => Buffer.from(encodeSerialized(inner), 'latin1').toString()),
  ),
}));
const cell = fc.oneof(
  value.map(encodeSerialized),
  text.map(bytesOfText),
  value.map(inner => bytesOfText(JSON.stringify(inner))),
);

for (const [name, write] of Object.entries(writings)) {
  test(`a literal comes out as its value rewritten alone, with the same counts (${name})`, () => {
    fc.assert(
      fc.property(fc.array(cell, { minLength: 1, maxLength: 4 }), cells => {
        const seen = new Tally().at('t', 'column 1');
        const rewritten = cells.map(one => applyEdits(one, editsInValue(one, rules, observerOf(seen))));
        const dump = (values: ByteString[]) =>
          `INSERT INTO t VALUES ${values.map(one => `('${write(one)}')`).join(',')};`;
        let out = '';
        const rewriter = new DumpRewriter({ rules }, chunk => {
          out += chunk.toString('latin1');
        });
        rewriter.push(Buffer.from(dump(cells), 'latin1'));
        rewriter.finish();
        assert.equal(out, dump(rewritten));
        const [found] = rewriter.tally.all();
        assert.deepEqual([found?.pairs, found?.damaged], [seen.pairs, seen.damaged]);
        assert.equal(found?.seen, cells.length);
      }),
      { numRuns: 1500, examples: [[[bytesOfText('\\"s:5:"https://old.example/site/a')]]] },
    );
  });
}

test('random bytes where SQL should be end in damage or pass through, never in anything else', () => {
  fc.assert(
    fc.property(fc.uint8Array({ maxLength: 200 }), fc.boolean(), (bytes, asRows) => {
      const head = asBytes(asRows ? 'INSERT INTO t VALUES (' : '');
      const input = Buffer.concat([Buffer.from(head, 'latin1'), bytes]);
      const out: Buffer[] = [];
      const rewriter = new DumpRewriter({ rules }, chunk => out.push(Buffer.from(chunk)));
      try {
        rewriter.push(input);
        rewriter.finish();
      } catch (error) {
        assert.equal((error as Error).name, 'DamageError');
        return;
      }
      assert.deepEqual(Buffer.concat(out), input);
    }),
    { numRuns: 2000 },
  );
});

function rewriteDump(text: string): string {
  let out = '';
  const rewriter = new DumpRewriter({ rules, prefix: { from: 'sr4_', to: 'row_', data: [] } }, chunk => {
    out += chunk.toString('latin1');
  });
  for (const byte of Buffer.from(text, 'latin1')) rewriter.push(Buffer.from([byte]));
  rewriter.finish();
  return out;
}

test('the prefix moves in the data of a network, of another site whose prefix begins with it, and in no other', () => {
  const data = wordpressColumns.prefixed;
  const rewriter = (out: string[]) =>
    new DumpRewriter({ rules, prefix: { from: 'sr4_', to: 'row_', data } }, chunk =>
      out.push(chunk.toString('latin1')),
    );
  const dump = (prefix: string, other = prefix) =>
    ['', '2_', 'old_']
      .map(
        own =>
          `CREATE TABLE \`${prefix}${own}options\` (\n  \`option_name\` text\n);\nINSERT INTO \`${prefix}${own}options\` VALUES ('${prefix}${own}user_roles'),('${other}x${own}user_roles');\n`,
      )
      .join('');
  const out: string[] = [];
  const one = rewriter(out);
  one.push(Buffer.from(dump('sr4_')));
  one.finish();
  assert.equal(out.join(''), dump('row_', 'sr4_'));
});

test('literals in hex are opened, rewritten and written back in hex, in their own case', () => {
  const hex = (text: string) => Buffer.from(text, 'latin1').toString('hex');
  const before = 'a:1:{i:0;s:26:"https://old.example/site/a";}';
  const after = 'a:1:{i:0;s:21:"https://new.example/a";}';
  for (const write of [
    (h: string) => `0x${h}`,
    (h: string) => `X'${h.toUpperCase()}'`,
    (h: string) => `x'${h}'`,
  ]) {
    const dump = (text: string) => `INSERT INTO t VALUES (1,${write(hex(text))},0,0x,X''),(0,0xff,'x',00,2);`;
    assert.equal(rewriteDump(dump(before)), dump(after));
  }
});

test('INSERT … SET and UPDATE are rewritten by column, their tables renamed', () => {
  assert.equal(
    rewriteDump(
      "INSERT INTO `sr4_o` SET `a`='s:24:\\\"https://old.example/site\\\";', b = 5, c='x';\nUPDATE sr4_o SET a = 'https://old.example/site/x', b=1 WHERE c='https://old.example/site';",
    ),
    "INSERT INTO `row_o` SET `a`='s:19:\\\"https://new.example\\\";', b = 5, c='x';\nUPDATE row_o SET a = 'https://new.example/x', b=1 WHERE c='https://new.example';",
  );
});

test('NO_BACKSLASH_ESCAPES is followed from where the dump sets it to where it sets it back', () => {
  const dump = (address: string) =>
    `SET SQL_MODE='ANSI,NO_BACKSLASH_ESCAPES';\nINSERT INTO t VALUES ('C:\\'),('it''s ${address}/a\\');\n/*!40101 SET SQL_MODE=@OLD_SQL_MODE */;\nINSERT INTO t VALUES ('it\\'s ${address}');\n`;
  assert.equal(rewriteDump(dump('https://old.example/site')), dump('https://new.example'));
});
