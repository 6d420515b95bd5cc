import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { applyEdits, asBytes } from '../../../src/core/bytes.js';
import { editsInLiteral, endOfString, escapeForLiteral, openLiteral } from '../../../src/core/sql/literal.js';
import { DumpRows } from '../../../src/core/sql/rows.js';
import { bench } from '../../help/bench.js';

const anyBytes = fc
  .uint8Array({ maxLength: 80 })
  .map(bytes => asBytes(Buffer.from(bytes).toString('latin1')));
const dialects = fc.constantFrom({ backslash: true }, { backslash: false });

test('what is escaped and opened again is the same, in both modes', () => {
  fc.assert(
    fc.property(anyBytes, dialects, (value, dialect) => {
      const literal = `'${escapeForLiteral(value, dialect)}'`;
      assert.equal(endOfString(literal, 1, "'", dialect, true), literal.length - 1);
      assert.equal(openLiteral(literal, 1, literal.length - 1, 0x27, dialect).value, value);
    }),
    { numRuns: 2000 },
  );
});

test('a change of the value changes only the same bytes of the literal', () => {
  fc.assert(
    fc.property(anyBytes, anyBytes, anyBytes, dialects, (left, right, put, dialect) => {
      const body = `${escapeForLiteral(left, dialect)}OLD${escapeForLiteral(right, dialect)}`;
      const open = openLiteral(body, 0, body.length, 0x27, dialect);
      const edits = editsInLiteral(open, [{ start: left.length, end: left.length + 3, put }], 0, dialect);
      const after = applyEdits(asBytes(body), edits);
      assert.equal(
        after,
        escapeForLiteral(left, dialect) + escapeForLiteral(put, dialect) + escapeForLiteral(right, dialect),
      );
    }),
    { numRuns: 1000 },
  );
});

test('escapes mean what the server says they mean', () => {
  const body = "a\\0\\n\\r\\t\\b\\Z\\\\\\'\\\"\\%\\_\\x''";
  assert.equal(
    openLiteral(body, 0, body.length, 0x27, { backslash: true }).value,
    "a\0\n\r\t\b\x1a\\'\"\\%\\_x'",
  );
});

test('rows are read as values', () => {
  const rows = new DumpRows(bench);
  rows.push(
    Buffer.from(
      "CREATE TABLE `t` (`a` int, `b` text, KEY `k` (`a`));\nINSERT INTO `t` VALUES (1,'x, (y)\\n'),\n(-2.5,NULL);",
    ),
  );
  rows.finish();
  assert.deepEqual(rows.tables().get('t'), [
    { a: '1', b: 'x, (y)\n' },
    { a: '-2.5', b: null },
  ]);
});
