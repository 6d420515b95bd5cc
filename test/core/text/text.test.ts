import assert from 'node:assert/strict';
import { test } from 'node:test';
import { excerpt, showable } from '../../../src/core/text/display.js';
import { count, counted, seconds } from '../../../src/core/text/numbers.js';
import { parseSize, sizeText } from '../../../src/core/text/sizes.js';

test('counts, sizes and times have one format', () => {
  assert.deepEqual([0, 999, 1000, 1234567].map(count), ['0', '999', '1 000', '1 234 567']);
  assert.deepEqual(
    [counted(1, 'row'), counted(2, 'row'), counted(0, 'copy', 'copies')],
    ['1 row', '2 rows', '0 copies'],
  );
  const sizes = [0, 999, 1000, 4130, 99_960, 999_499, 999_999, 25_000_000, 5e15];
  assert.deepEqual(sizes.map(sizeText), [
    '0 B',
    '999 B',
    '1.0 kB',
    '4.1 kB',
    '100 kB',
    '999 kB',
    '1.0 MB',
    '25.0 MB',
    '5000 TB',
  ]);
  const times = [0, 9.94, 9.96, 99.4, 99.6, 119.7, 3599.4, 3599.6, 7500];
  assert.deepEqual(times.map(seconds), [
    '0.0 s',
    '9.9 s',
    '10 s',
    '99 s',
    '1 min 40 s',
    '2 min 0 s',
    '59 min 59 s',
    '1 h 0 min',
    '2 h 5 min',
  ]);
});

test('a size is read as people write it, and nonsense is refused', () => {
  assert.deepEqual(
    ['5 MiB', '200MB', '1.5k b', '7'].map(text => parseSize(text.replace(' b', 'b'), 'x')),
    [5242880, 2e8, 1500, 7],
  );
  for (const nonsense of ['', '5 XB', '-1', '0', '1e3', '5MB x'])
    assert.throws(() => parseSize(nonsense, 'x'), /is not a size/);
});

test('foreign text cannot command a terminal or turn a line around', () => {
  assert.equal(showable('a\u001b[2Jb\u202ec\u009bd\ne'), 'a·[2Jb·c·d·e');
  assert.equal(excerpt(`${'x'.repeat(100)}HERE${'y'.repeat(100)}`, 100, 2), '…xxHERE…');
});
