import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { test } from 'node:test';
import { parsePair } from '../../src/core/address/pairs.js';
import { applyEdits, bytesOf } from '../../src/core/bytes.js';
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

test('4000 random values that PHP makes come out as PHP makes them by walking the unserialized value', t => {
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
    const rewritten = applyEdits(before!, editsInValue(before!, rules, observerOf(place)));
    assert.equal(rewritten, after, `seed ${seed}`);
  }
  assert.equal(place.damaged, 0);
  assert.ok(Object.keys(place.forms).length >= 6, JSON.stringify(place.forms));
});
