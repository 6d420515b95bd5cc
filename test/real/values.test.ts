import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { test } from 'node:test';
import { parsePair } from '../../src/core/address/pairs.js';
import { applyEdits, asBytes, bytesOf } from '../../src/core/bytes.js';
import { editsInValue } from '../../src/core/rewrite/carriers/value.js';
import { observerOf } from '../../src/core/rewrite/report/observer.js';
import { Tally } from '../../src/core/rewrite/report/tally.js';
import { compileRules } from '../../src/core/rewrite/terms/rules.js';
import { bench } from '../help/bench.js';
import { needs } from '../help/real.js';

const rules = compileRules(bench, [
  parsePair('https://old.example/site', 'https://new.example'),
  parsePair('/home/old/htdocs', '/srv/www'),
]);

/** What may be around a value in a cell: a byte order mark, a header, a comment, binary data, JSON, the rest of another. */
const around: readonly (readonly [left: string, right: string])[] = [
  ['', ''],
  ['\xff\xfe', ''],
  ['v1:', ' '],
  ['<!-- cached -->', '\n<p>'],
  [
    Array.from({ length: 256 }, (_, byte) => String.fromCharCode(byte))
      .reverse()
      .join(''),
    '\0',
  ],
  ['{"a":"', '"}'],
  ['.s:7:"a:3:{', '";}'],
];

test('4000 random values that PHP makes come out as PHP makes them by walking the unserialized value, whatever is around them', t => {
  if (!needs(t, 'php')) return;
  const seed = String(Date.now() % 1_000_000);
  const made = execFileSync('php', [join(import.meta.dirname, 'values.php'), '4000', seed], {
    maxBuffer: 1 << 28,
  });
  const lines = made.toString().trim().split('\n');
  assert.equal(lines.length, 4000);
  const place = new Tally().at('t', 'c');
  for (const line of lines) {
    const [before, after] = line.split(' ').map(text => bytesOf(Buffer.from(text, 'base64')));
    for (const [left, right] of around) {
      const whole = asBytes(left + before + right);
      const rewritten = applyEdits(whole, editsInValue(whole, rules, observerOf(place)));
      assert.equal(rewritten, left + after + right, `seed ${seed}`);
    }
  }
  assert.equal(place.damaged, 0);
  assert.ok(Object.keys(place.forms).length >= 6, JSON.stringify(place.forms));
});
