import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { DamageError } from '../../../src/core/errors.js';
import { readS3Place } from '../../../src/core/store/s3-place.js';
import {
  isStoredName,
  readStoredIndex,
  readStoredKey,
  storedName,
  storedPart,
  writeStoredKey,
} from '../../../src/core/store/stored-crate.js';

const hex = fc.stringMatching(/^[0-9a-f]{64}$/);

test('a key is read as it was written, and nothing else is taken for one', () => {
  const parts = fc
    .array(fc.tuple(hex, fc.nat()), { minLength: 1, maxLength: 1200 })
    .map(all => all.map(([sha256, bytes], i) => ({ name: storedPart(i + 1), sha256, bytes })));
  const identity = 'AGE-SECRET-KEY-1QQQ';
  fc.assert(
    fc.property(hex, parts, (crate, some) => {
      const text = writeStoredKey({ crate, parts: some, identity });
      assert.deepEqual(readStoredKey(text, 'key.age'), { crate, parts: some, identity });
      // Parts in another order would make another tar.
      const swapped = [...some.slice(1), some[0]!];
      if (some.length > 1)
        assert.throws(
          () => readStoredKey(writeStoredKey({ crate, parts: swapped, identity }), 'key.age'),
          DamageError,
        );
    }),
    { numRuns: 30 },
  );
  for (const text of ['', 'AGE-SECRET-KEY-1QQQ\n', `# ${'a'.repeat(64)}\n`])
    assert.throws(() => readStoredKey(text, 'key.age'), DamageError, JSON.stringify(text));
});

test('what others can write at a store is judged before it is used', () => {
  const right = {
    format: 'able-porter stored crate',
    version: 1,
    taken: '2026-12-01T22:00:00.000Z',
    stored: '2026-12-01T22:10:00.000Z',
    by: 'able-porter 0.1.0',
    crate: 'a'.repeat(64),
    from: { address: 'https://club.example', family: 'wordpress' },
    counts: { files: 1, bytes: 1, tables: 0, rows: 0 },
    parts: 1,
    bytes: 300,
  };
  const read = (change: object) => readStoredIndex(JSON.stringify({ ...right, ...change }), 'stored.json');
  assert.deepEqual(read({}), right);
  for (const change of [
    { format: 'another' },
    { version: 2 },
    { parts: 0 },
    { parts: 1e9 },
    { parts: '1' },
    { taken: 'yesterday' },
    { taken: '2026-99-99T22:00:00Z' },
    { crate: '../../etc' },
    { more: 1 },
    { from: { address: 'https://club.example', family: '../x' } },
  ])
    assert.throws(() => read(change), DamageError, JSON.stringify(change));
  assert.throws(() => readStoredIndex('no JSON', 'stored.json'), DamageError);
});

test('a stored crate has a name of its own, and others lead nowhere', () => {
  assert.equal(storedName('salt.marsh', '2026-12-01T22:00:00.123Z'), 'salt.marsh-20261201T220000Z');
  fc.assert(
    fc.property(
      fc.stringMatching(/^[\w-][\w.-]{0,40}$/),
      fc.date({ min: new Date('2000-01-01'), max: new Date('2099-01-01'), noInvalidDate: true }),
      (move, at) => isStoredName(storedName(move, at.toISOString())),
    ),
  );
  for (const name of ['..', 'a/b-20261201T220000Z', '../x-20261201T220000Z', '.x-20261201T220000Z', 'x'])
    assert.ok(!isStoredName(name), name);
});

test('places in buckets', () => {
  assert.deepEqual(readS3Place('s3://bucket'), { bucket: 'bucket', prefix: '' });
  assert.deepEqual(readS3Place('s3://bucket/'), { bucket: 'bucket', prefix: '' });
  assert.deepEqual(readS3Place('s3://my.bucket/clubs/2026/'), { bucket: 'my.bucket', prefix: 'clubs/2026' });
  for (const place of [
    's3://',
    's3://UP',
    's3://b',
    's3://bucket/a//b',
    's3://bucket/../x',
    's3:bucket',
    'bucket/x',
  ])
    assert.equal(readS3Place(place), undefined, place);
});
