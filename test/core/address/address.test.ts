import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseAddress } from '../../../src/core/address/address.js';
import { UsageError } from '../../../src/core/errors.js';

test('addresses: what cannot be one is refused', () => {
  for (const text of [
    'old.example',
    'https://a.example/?x=1',
    'https://a.example/#x',
    'ftp://a.example',
    'https://u:p@a.example',
    'https://',
  ]) {
    assert.throws(() => parseAddress(text), UsageError, text);
  }
  assert.deepEqual(parseAddress('HTTPS://A.example.:443/b//c/'), {
    scheme: 'https',
    host: 'a.example',
    unicodeHost: 'a.example',
    port: undefined,
    segments: ['b', 'c'],
  });
});
