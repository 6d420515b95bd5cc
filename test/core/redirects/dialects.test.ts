import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseAddress } from '../../../src/core/address/address.js';
import { dialectOfServer, dialects } from '../../../src/core/redirects/dialects.js';

test('a server is recognised by what it calls itself', () => {
  const seen = ['Apache/2.4.57 (Debian)', 'nginx', 'Caddy', 'something else', undefined];
  assert.deepEqual(seen.map(dialectOfServer), ['apache', 'nginx', 'caddy', undefined, undefined]);
});

test('what has a meaning in patterns is itself in every dialect', () => {
  const from = parseAddress('https://old.example/a+b.c');
  const to = parseAddress('https://new.example/100%25');
  for (const { name, samePath } of dialects) {
    const rules = samePath(from, to);
    assert.match(rules, /a\\\+b\\\.c/, name);
    assert.match(rules, name === 'apache' ? /100\\%25/ : /100%25/, name);
  }
});

test('within one host, what is already below the new address stays where it is', () => {
  const inward = { from: parseAddress('https://old.example'), to: parseAddress('https://old.example/blog') };
  for (const { name, samePath } of dialects)
    assert.match(samePath(inward.from, inward.to), /!~|RewriteCond .*!\^|not vars_regexp/, name);
});
