import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parsePair } from '../../../src/core/address/pairs.js';
import { DumpRewriter } from '../../../src/core/rewrite/carriers/dump.js';
import { compileRules } from '../../../src/core/rewrite/terms/rules.js';
import { isAllowed, StatementJudge } from '../../../src/core/sql/judge/judge.js';
import { DumpStatements } from '../../../src/core/sql/statements.js';
import { bench } from '../../help/bench.js';
import { hostile, usual } from '../../help/statements.js';

test('what dumps have is allowed, and says which tables it is about', () => {
  for (const statement of usual) {
    const verdict = new StatementJudge().judge(statement);
    assert.ok(isAllowed(verdict), `${statement}: ${'why' in verdict ? verdict.why : ''}`);
  }
  const named = (statement: string) => {
    const verdict = new StatementJudge().judge(statement);
    assert.ok(isAllowed(verdict), statement);
    return { about: verdict.about, uses: verdict.uses, refersTo: verdict.refersTo };
  };
  assert.deepEqual(named('DROP TABLE IF EXISTS `a`, b'), { about: ['a', 'b'], uses: [], refersTo: [] });
  assert.deepEqual(named('CREATE VIEW v AS SELECT * FROM a x, (b JOIN c) WHERE x.i IN (SELECT i FROM d)'), {
    about: ['v'],
    uses: ['a', 'b', 'c', 'd'],
    refersTo: [],
  });
  assert.deepEqual(
    named(
      'CREATE TRIGGER t AFTER INSERT ON a FOR EACH ROW BEGIN INSERT INTO b SELECT * FROM c; DELETE FROM d; END',
    ),
    { about: ['a'], uses: ['b', 'c', 'd'], refersTo: [] },
  );
  assert.deepEqual(named('CREATE TABLE a (i int, CONSTRAINT k FOREIGN KEY (i) REFERENCES b (i))'), {
    about: ['a'],
    uses: [],
    refersTo: ['b'],
  });
});

/** The same statement as others may write it. */
const variants: readonly ((statement: string) => string)[] = [
  statement => statement,
  statement => statement.toLowerCase(),
  statement => statement.replaceAll(' ', '\n'),
  statement => statement.replace(' ', '/* x */'),
  statement => statement.replace(' ', ' -- x\n'),
  statement => statement.replace(' ', '\t# x\n'),
  statement => (statement.includes('/*') ? statement : `/*!40000 ${statement} */`),
  statement => (statement.includes('/*') ? statement : `/*!99999 ${statement} */`),
  statement => (statement.includes('/*') ? statement : `/*M!100100 ${statement} */`),
  statement => (statement.includes('/*') ? statement : statement.replace(' ', ' /*!50000 ').concat(' */')),
];

test('what dumps do not have is not allowed, however it is written', () => {
  for (const statement of hostile)
    for (const [i, variant] of variants.entries()) {
      const text = variant(statement);
      assert.ok(!isAllowed(new StatementJudge().judge(text)), `variant ${i}: ${text}`);
    }
});

/** Those that are read as statements, and not as rows or as something that is no SQL at all. */
const shown = hostile.filter(one =>
  /^(?:create|drop|alter|set|update|delete|truncate|grant|call|use|flush)\b[^'";]*$/i.test(one),
);

test('no reader passes on what is not allowed, and what is around it stays to the byte', () => {
  const rules = compileRules(bench, [parsePair('https://old.example', 'https://new.example')]);
  fc.assert(
    fc.property(
      fc.array(fc.constantFrom(...shown), {
        minLength: 1,
      }),
      fc.integer({ min: 1, max: 400 }),
      (some, size) => {
        const own = ['CREATE TABLE wp_a (a text);\n', "INSERT INTO wp_a VALUES ('https://old.example');\n"];
        const dump = Buffer.from([own[0], ...some.map(one => `${one};\n`), own[1]].join(''), 'latin1');
        const out: string[] = [];
        const rewriter = new DumpRewriter({ rules }, chunk => out.push(chunk.toString('latin1')));
        const run: string[] = [];
        const statements = new DumpStatements(bench, 1000, ({ sql }) => run.push(sql));
        for (const reader of [rewriter, statements]) {
          for (let at = 0; at < dump.length; at += size)
            reader.push(Buffer.from(dump.subarray(at, at + size)));
          reader.finish();
        }
        assert.equal(out.join('').replace(/\n+/g, '\n'), own.join('').replace('old.', 'new.'));
        assert.equal(rewriter.leftOut.length, some.length);
        for (const [i, { at }] of rewriter.leftOut.entries())
          assert.ok(dump.toString('latin1', at).startsWith(some[i]!.slice(0, 9)), some[i]);
        assert.equal(run.length, 2);
      },
    ),
    { numRuns: 200 },
  );
});

test('rows hold values; what a server would compute stops the dump', () => {
  const read = (rows: string, size = 1000) => {
    const reader = new DumpStatements(bench, 1000, () => {});
    const dump = Buffer.from(`CREATE TABLE t (a int, b text);\nINSERT INTO t VALUES ${rows};\n`, 'latin1');
    for (let at = 0; at < dump.length; at += size) reader.push(Buffer.from(dump.subarray(at, at + size)));
    reader.finish();
  };
  const good = [
    "(1,'x'),(-2.5e-10,NULL)",
    "(0x41,_binary 'x'),(b'01',x'41')",
    "(null , TRUE),(+1,_utf8mb4'x')",
    "(1,CONVERT(_latin1'x' USING utf8mb4)),(2,ST_GeomFromText('POINT(1 1)'))",
    "(1,NOW()),(DEFAULT,'')",
    "(1,'a') ON DUPLICATE KEY UPDATE `a`=VALUES(`a`), b = VALUES(b)",
    "(1 /* one */,'x') -- two\n,(2,'y')",
  ];
  for (const rows of good) for (const size of [1000, 7, 1]) assert.doesNotThrow(() => read(rows, size), rows);
  const bad = [
    "(1,load_file('/etc/passwd'))",
    '(1,(SELECT 1))',
    '((select v from other.t),1)',
    '(1,@@datadir)',
    '(@a:=1,2)',
    '(sleep(9),1)',
    '(1,`b`)',
    "(1,'x') ON DUPLICATE KEY UPDATE a=(SELECT 1)",
    "(1,'x') RETURNING a",
    "(1,'x') AS new",
    "(1,'x' || user())",
    "(1,'x' /*!99999 ),(sleep(1),2 */)",
    "(1,_gbk'x')",
    '(1,{d 1})',
    '(1,2) UNION SELECT 1',
    "(1,'x')\\! touch x",
    '(1,CONCAT(user(),1))',
    '(1=1,2)',
    '(1,2) WHERE 1',
    '(nullx,1)',
  ];
  for (const rows of bad)
    for (const size of [1000, 7, 1])
      assert.throws(
        () => read(rows, size),
        /holds what (?:a server would compute|only some servers read)/,
        rows,
      );
});
