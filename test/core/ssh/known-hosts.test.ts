import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { fingerprintOf, hostLine, keysOf, lookUpHost } from '../../../src/core/ssh/known-hosts.js';

/** A public key as it comes over the wire. */
const wire = (type: string, rest: Buffer) => {
  const name = Buffer.from(type);
  const length = Buffer.alloc(4);
  length.writeUInt32BE(name.length);
  return Buffer.concat([length, name, rest]);
};

test('a key that was accepted is known from then on, for its host and port only; another is a changed one', () => {
  const host = fc.stringMatching(/^[a-z][a-z0-9-]{0,10}(\.[a-z]{2,5})?$/);
  fc.assert(
    fc.property(
      host,
      fc.integer({ min: 1, max: 65_535 }),
      fc.uint8Array({ minLength: 8, maxLength: 64 }),
      (name, port, bytes) => {
        const key = wire('ssh-ed25519', Buffer.from(bytes));
        const other = wire('ssh-ed25519', Buffer.concat([Buffer.from(bytes), Buffer.from('x')]));
        const text = `# comment\n\n${hostLine(name, port, key)}\n@cert-authority * ssh-rsa AAAA\n`;
        assert.equal(lookUpHost(text, name.toUpperCase(), port, key), 'known');
        assert.equal(lookUpHost(text, name, port, other), 'changed');
        assert.equal(lookUpHost(text, name, port === 1 ? 2 : port - 1, key), 'unknown');
        assert.equal(lookUpHost(text, `x${name}`, port, key), 'unknown');
        const revoked = `${text}@revoked ${hostLine('*', 22, key)}\n`;
        assert.equal(lookUpHost(revoked, name, port, key), 'revoked');
        assert.deepEqual(keysOf(text, name, port), [
          { kind: 'ssh-ed25519', fingerprint: fingerprintOf(key) },
        ]);
        assert.match(fingerprintOf(key), /^SHA256:[\w+/]{43}$/);
      },
    ),
  );
  const key = wire('ssh-rsa', Buffer.from('k'));
  const line = (hosts: string) => `${hosts} ssh-rsa ${key.toString('base64')}\n`;
  assert.equal(lookUpHost(line('*.a.example,!b.a.example'), 'c.a.example', 22, key), 'known');
  assert.equal(lookUpHost(line('*.a.example,!b.a.example'), 'b.a.example', 22, key), 'unknown');
  assert.equal(lookUpHost(line('192.0.2.?'), '192.0.2.7', 22, key), 'known');
});
