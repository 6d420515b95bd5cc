import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parsePair } from '../../../src/core/address/pairs.js';
import { DamageError } from '../../../src/core/errors.js';
import { pieceBytes, roomBefore } from '../../../src/core/kernels/workbench.js';
import { DumpRewriter } from '../../../src/core/rewrite/carriers/dump.js';
import { compileRules } from '../../../src/core/rewrite/terms/rules.js';
import { compileScope } from '../../../src/core/rewrite/terms/scope.js';
import { wordpressColumns } from '../../../src/core/site/data/family-columns.js';
import { RowCount } from '../../../src/core/sql/row-count.js';
import { DumpScanner } from '../../../src/core/sql/scanner.js';
import { DumpStatements } from '../../../src/core/sql/statements.js';
import { bench } from '../../help/bench.js';

const dump = `/*!999999\\- enable the sandbox mode */ 
-- MariaDB dump 10.19  Distrib 10.11.6-MariaDB, for debian-linux-gnu (x86_64)
-- it's a comment; with 'quotes
/*!40101 SET NAMES utf8mb4 */;
# another; comment
DROP TABLE IF EXISTS \`sr4_posts\`;
CREATE TABLE \`sr4_posts\` (
  \`ID\` bigint(20) NOT NULL COMMENT 'a, b) and \`c\`',
  \`post_content\` longtext DEFAULT '(',
  \`guid\` varchar(255),
  PRIMARY KEY (\`ID\`),
  KEY \`x\` (\`guid\`(191)),
  CONSTRAINT \`fk\` FOREIGN KEY (\`ID\`) REFERENCES \`sr4_users\` (\`ID\`)
);
LOCK TABLES \`sr4_posts\` WRITE, \`sr4_users\` READ;
INSERT INTO \`sr4_posts\` VALUES (1,'it\\'s https://old.example/site/a; (x), ''y''\\\\','https://old.example/site/?p=1'),
 (2,NULL,_binary 'b'), /* in between; ' */ (-3,'{"u":"https:\\\\/\\\\/old.example\\\\/site"}',0x414243);
INSERT IGNORE INTO sr4_posts (guid, ID) VALUES ('https://old.example/site/?p=9',9);
REPLACE INTO \`sr4_options\` (\`option_name\`,\`option_value\`) VALUES ('home','a:1:{s:1:"u";s:24:\\"https://old.example/site\\";}'),('sr4_user_roles','r');
UNLOCK TABLES;
DELIMITER ;;
/*!50003 CREATE*/ /*!50003 TRIGGER t BEFORE INSERT ON \`sr4_posts\` FOR EACH ROW BEGIN SET @a = 'x;y'; SET @b = 1; END */;;
DELIMITER ;
/*!50001 CREATE VIEW \`v\` AS select \`sr4_posts\`.\`ID\` AS \`ID\` from (\`sr4_posts\` join \`sr4_users\`) */;
-- Dump completed on 2026-03-01  3:14:15
`;
const rules = compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')]);
const nothing = compileRules(bench, [parsePair('https://elsewhere.example', 'https://new.example')]);
const prefix = { from: 'sr4_', to: 'row_', data: wordpressColumns.prefixed };

/** Rewrites text given in pieces cut at the offsets. */
function rewrite(text: string, cuts: readonly number[], what: ConstructorParameters<typeof DumpRewriter>[0]) {
  const out: Buffer[] = [];
  const rewriter = new DumpRewriter(what, chunk => out.push(Buffer.from(chunk)));
  const bytes = Buffer.from(text, 'latin1');
  const edges = [0, ...cuts.map(cut => cut % bytes.length).sort((a, b) => a - b), bytes.length];
  for (let i = 1; i < edges.length; i++) rewriter.push(bytes.subarray(edges[i - 1], edges[i]));
  rewriter.finish();
  return { text: Buffer.concat(out).toString('latin1'), rewriter };
}

test('a dump is rewritten: literals, lengths, table names, and nothing else', () => {
  const { text, rewriter } = rewrite(dump, [], { rules, prefix, scope: compileScope(['*_posts.guid']) });
  const expected = dump
    .replaceAll('`sr4_', '`row_')
    .replace('INTO sr4_posts', 'INTO row_posts')
    .replace("'sr4_user_roles'", "'row_user_roles'")
    .replace('https://old.example/site/a;', 'https://new.example/a;')
    .replace('old.example\\\\/site"}', 'new.example"}')
    .replace('s:24:\\"https://old.example/site', 's:19:\\"https://new.example');
  assert.equal(text, expected);
  assert.deepEqual(
    [...rewriter.tables.values()],
    [
      { table: 'sr4_posts', rows: 4 },
      { table: 'sr4_options', rows: 2 },
    ],
  );
  const places = rewriter.tally
    .all()
    .map(({ table, column, seen, changed, left }) => ({ table, column, seen, changed, left }));
  assert.deepEqual(places, [
    { table: 'sr4_posts', column: 'post_content', seen: 2, changed: 2, left: 0 },
    { table: 'sr4_posts', column: 'guid', seen: 4, changed: 0, left: 2 },
    { table: 'sr4_options', column: 'option_name', seen: 2, changed: 0, left: 0 },
    { table: 'sr4_options', column: 'option_value', seen: 1 + 1, changed: 1, left: 0 },
  ]);
});

test('how a dump is cut into chunks makes no difference', () => {
  const whole = rewrite(dump, [], { rules, prefix }).text;
  fc.assert(
    fc.property(fc.array(fc.nat(), { maxLength: 40 }), cuts => {
      assert.equal(rewrite(dump, cuts, { rules, prefix }).text, whole);
    }),
    { numRuns: 300 },
  );
  const everyByte = Array.from({ length: dump.length }, (_, i) => i);
  assert.equal(rewrite(dump, everyByte, { rules, prefix }).text, whole);
});

test('blocks that are edited in place give the same, with much room before them or with little', () => {
  const long = `'https://old.example/site${'x'.repeat(150_000)}'`;
  const rows = Array.from({ length: 4000 }, (_, i) => `(${i},'see https://old.example/site/${i}')`);
  const text = `${dump}INSERT INTO \`sr4_posts\` VALUES ${rows.join()},(1,${long}),${rows.join()};\n`;
  const whole = rewrite(text, [], { rules }).text;
  assert.ok(!whole.includes('see https://old'));
  const room = fc.constantFrom(0, 1, 50, 1000, 60_000, roomBefore);
  const blocks = bench.incoming.take()!;
  assert.equal(bench.incoming.take(), undefined, 'while they are taken, nobody else has them');
  const size = fc.oneof(fc.integer({ min: 1, max: 200 }), fc.integer({ min: 1, max: 250_000 }));
  fc.assert(
    fc.property(fc.array(fc.tuple(size, room), { minLength: 1, maxLength: 12 }), parts => {
      const out: Buffer[] = [];
      const rewriter = new DumpRewriter({ rules }, chunk => out.push(Buffer.from(chunk)));
      const bytes = Buffer.from(text, 'latin1');
      for (let at = 0, turn = 0; at < bytes.length; turn++) {
        const [most, before] = parts[turn % parts.length]!;
        const taken = bytes.copy(blocks[turn % 2]!, 0, at, at + Math.max(most, turn > 200 ? 50_000 : 0));
        rewriter.push(blocks[turn % 2]!.subarray(0, taken), before);
        // It may be filled again at once.
        blocks[turn % 2]!.fill("'");
        at += taken;
      }
      rewriter.finish();
      assert.equal(Buffer.concat(out).toString('latin1'), whole);
    }),
    { numRuns: 60 },
  );
  bench.incoming.giveBack();
});

test('long literals are followed wherever the dump is cut, whatever lay in memory before', () => {
  const lengths = [15, 16, 17, 31, 32, 33, 47, 48, 63, 64, 65, 96, 128];
  const rows = lengths.map((n, i) => `(${i},'${'x'.repeat(n)}','${`\\\\${'y'.repeat(n - 3)}''`}')`);
  const text = `INSERT INTO t VALUES ${rows.join(',')};\n`;
  // What is looked at after this stands where quotes stood.
  const quotes = `INSERT INTO t VALUES (${"'a',".repeat(2000)}0);\n`;
  for (let cut = 1; cut < text.length; cut++) {
    const { text: after, rewriter } = rewrite(quotes + text, [quotes.length, quotes.length + cut], {
      rules: nothing,
    });
    assert.equal(after, quotes + text);
    assert.equal(rewriter.tables.get('t')?.rows, 1 + rows.length, `cut at ${cut}`);
  }
});

test('every literal is shown whole, whatever backslashes and quotes it contains', () => {
  const run = fc.oneof(
    fc.nat(140).map(length => 'x'.repeat(length)),
    fc.nat(70).map(length => '\\'.repeat(length)),
    fc.constantFrom("'", "''", '"', "\\'", '\\"', 'https://old.example/site/a'),
  );
  const value = fc.array(run, { maxLength: 12 }).map(runs => runs.join(''));
  const always = { rules: { ...rules, mend: true } };
  fc.assert(
    fc.property(
      fc.array(value, { minLength: 1, maxLength: 6 }),
      fc.constantFrom('backslashes', 'doubled quotes', 'no escapes'),
      fc.array(fc.nat(), { maxLength: 3 }),
      (values, way, cuts) => {
        const escaped = values.map(text => {
          if (way === 'backslashes') return text.replace(/[\\']/g, '\\$&');
          return text.replace(/'/g, "''").replace(/\\/g, way === 'no escapes' ? '\\' : '\\\\');
        });
        const mode = way === 'no escapes' ? "SET sql_mode='NO_BACKSLASH_ESCAPES';\n" : '';
        const text = `${mode}INSERT INTO t VALUES ${escaped.map(one => `('${one}')`).join(',')};\n`;
        const after = text.replaceAll('https://old.example/site/', 'https://new.example/');
        const { text: written, rewriter } = rewrite(text, cuts, always);
        assert.equal(written, after);
        assert.equal(rewriter.tables.get('t')?.rows, values.length);
        const shown: string[] = [];
        const scanner = new DumpScanner(bench, {
          literal: ({ s, start, end }) => {
            shown.push(s.slice(start, end));
            return undefined;
          },
        });
        scanner.push(Buffer.from(text, 'latin1'));
        scanner.finish();
        assert.deepEqual(shown, escaped);
      },
    ),
    { numRuns: 1500 },
  );
});

test('a literal that is gone through in several pieces may have its escapes cut by them', () => {
  for (const before of ['', 'x', 'xx', 'xxx']) {
    for (const escaped of ["\\'", '\\\\', "''"]) {
      const text = `INSERT INTO t VALUES (1,'${before}${escaped.repeat(pieceBytes / 2 + 40)}'),(2,'b');\n`;
      const { text: after, rewriter } = rewrite(text, [], { rules: nothing });
      assert.ok(after === text);
      assert.equal(rewriter.tables.get('t')?.rows, 2);
    }
  }
});

test('pairs that match nothing give the input back, whatever the literals hold', () => {
  const literal = fc.uint8Array({ maxLength: 40 }).map(bytes => {
    const text = Buffer.from(bytes).toString('latin1');
    return `'${text.replace(/[\\']/g, '\\$&')}'`;
  });
  fc.assert(
    fc.property(
      fc.array(fc.array(literal, { minLength: 1, maxLength: 3 }), { minLength: 1, maxLength: 5 }),
      fc.nat(),
      (rows, cut) => {
        const text = `INSERT INTO t VALUES ${rows.map(row => `(${row.join(',')})`).join(',')};\n`;
        const { text: after, rewriter } = rewrite(text, [cut], { rules: nothing });
        assert.equal(after, text);
        assert.equal(rewriter.tables.get('t')?.rows, rows.length);
      },
    ),
    { numRuns: 500 },
  );
});

test('a dump cut short anywhere is damage', () => {
  const complete = dump.trimEnd().length - 'on 2026-03-01  3:14:15'.length;
  for (let length = 1; length < complete - 1; length += 7) {
    assert.throws(
      () => rewrite(dump.slice(0, length), [], { rules: nothing }),
      DamageError,
      `cut at ${length}`,
    );
  }
  const single = "INSERT INTO t VALUES (1,'a'),(2,'b');";
  for (let length = 8; length < single.length; length++) {
    assert.throws(
      () => rewrite(single.slice(0, length), [], { rules: nothing }),
      DamageError,
      `cut at ${length}`,
    );
  }
});

test('what is not SQL is refused at once', () => {
  for (const text of [
    'hello there',
    '\x89PNG\r\n\x1a\n',
    '\xff\xfeI\0',
    'SELECTED reading',
    '-- only a comment\n',
    '{"json":1}',
    '<html>',
  ]) {
    assert.throws(() => rewrite(text, [], { rules: nothing }), DamageError, text);
  }
});

test('a row that is not closed is damage, and a delimiter may be cut by a chunk', () => {
  assert.throws(
    () => rewrite("INSERT INTO t VALUES (1,'a';\nINSERT INTO t VALUES (2,'b');", [], { rules: nothing }),
    /row of the table t is not closed/,
  );
  const blocks = 'DELIMITER ;;\nINSERT INTO t VALUES (1);;\nINSERT INTO t VALUES (2);;\n';
  const everywhere = Array.from({ length: blocks.length }, (_, i) => i);
  assert.equal(rewrite(blocks, everywhere, { rules: nothing }).rewriter.tables.get('t')?.rows, 2);
});

test('rows of tables that are not wanted are left out, and the table itself is kept', () => {
  const out: Buffer[] = [];
  const count = new RowCount(
    bench,
    table => (table === 'sr4_posts' ? 'structure' : 'all'),
    chunk => out.push(Buffer.from(chunk)),
  );
  for (const byte of Buffer.from(dump, 'latin1')) count.push(Buffer.from([byte]));
  count.finish();
  const text = Buffer.concat(out).toString('latin1');
  assert.ok(text.includes('CREATE TABLE `sr4_posts`') && text.includes('REPLACE INTO `sr4_options`'));
  assert.ok(!/INSERT (?:IGNORE )?INTO `?sr4_posts/.test(text) && !text.includes('in between'));
  assert.deepEqual(
    [...count.tables.values()],
    [
      { table: 'sr4_posts', rows: 0 },
      { table: 'sr4_options', rows: 2 },
    ],
  );
  assert.equal(rewrite(text, [], { rules: nothing }).text, text);
});

test('of tables that are not taken nothing is passed on, whatever a statement does with them', () => {
  const own = [
    'SET NAMES utf8mb4;',
    'DROP TABLE IF EXISTS `a_t`;',
    'CREATE TABLE `a_t` (`id` int);',
    'INSERT INTO `a_t` VALUES (1);',
    'CREATE TRIGGER `x` AFTER INSERT ON `a_t` FOR EACH ROW SET @n = 1;',
  ];
  const others = [
    'DROP TABLE IF EXISTS `b_t`, `b_u`;',
    '/*!50001 CREATE TABLE `b_v` (`id` int) */;',
    'CREATE TABLE IF NOT EXISTS `shop`.`b_t` (`id` int);',
    'LOCK TABLES `b_t` WRITE;',
    '/*!40000 ALTER TABLE `b_t` DISABLE KEYS */;',
    "INSERT INTO `b_t` VALUES (1,'https://old.example/site'),(2,'x;y');",
    "UPDATE b_t SET id = 2 WHERE a = 'b';",
    '/*!50003 CREATE*/ /*!50017 DEFINER=`view`@`%`*/ /*!50003 TRIGGER `y` BEFORE UPDATE ON `b_t` FOR EACH ROW SET @n = 2 */;',
    'CREATE ALGORITHM=UNDEFINED DEFINER=`a`@`b` SQL SECURITY DEFINER VIEW `b_v` AS SELECT 1;',
    'TRUNCATE TABLE b_t;',
  ];
  const mixed = own.flatMap((statement, i) => [statement, others[i]!, others[i + own.length]!]).join('\n');
  const out: string[] = [];
  const rewriter = new DumpRewriter({ rules, takes: table => !/^b_[tuv]$/.test(table) }, chunk =>
    out.push(chunk.toString('latin1')),
  );
  rewriter.push(Buffer.from(mixed));
  rewriter.finish();
  assert.deepEqual(out.join('').split(/\n+/).filter(Boolean), own);
});

test('figures of a dry run are those of the real run', () => {
  const dry = new DumpRewriter({ rules, prefix });
  dry.push(Buffer.from(dump, 'latin1'));
  dry.finish();
  assert.deepEqual(dry.tally.all(), rewrite(dump, [], { rules, prefix }).rewriter.tally.all());
});

test('an address outside of rows is counted where it is', () => {
  const text =
    "CREATE TABLE t (a varchar(9) DEFAULT 'https://old.example/site');\nINSERT INTO t VALUES ('x');";
  const { rewriter } = rewrite(text, [], { rules });
  const place = rewriter.tally.all().find(({ table }) => table === 'statements');
  assert.deepEqual([place?.column, place?.left], ['CREATE TABLE', 1]);
});

test('a statement on rows names its table, so that an interrupted load can fill it again', () => {
  const seen: string[] = [];
  const reader = new DumpStatements(bench, 1000, ({ kind, table }) => seen.push(`${kind} ${table}`));
  reader.push(
    Buffer.from(
      'INSERT LOW_PRIORITY IGNORE INTO `a``b` SET x = 1;\nreplace "c" SET x = \'INTO d\';\n/*!40000 UPDATE `e` SET x = 2 */;\nDELETE QUICK FROM f WHERE x = 1;\nINSERT INTO g VALUES (1);\nCREATE TABLE h (x int);\n',
    ),
  );
  reader.finish();
  assert.deepEqual(seen, ['data a`b', 'data c', 'data e', 'data f', 'rows g', 'structure ']);
});
