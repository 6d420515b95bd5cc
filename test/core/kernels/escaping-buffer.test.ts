import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { EscapingBuffer } from '../../../src/core/kernels/escaping-buffer.js';

const escapes: Readonly<Record<string, string>> = {
  '\0': '\\0',
  '\n': '\\n',
  '\r': '\\r',
  '\x1a': '\\Z',
  "'": "\\'",
  '\\': '\\\\',
};
const escaped = (bytes: Uint8Array) =>
  Buffer.from(bytes)
    .toString('latin1')
    .replace(/[\0\n\r\x1a'\\]/g, special => escapes[special]!);

const special = fc.constantFrom(...Object.keys(escapes)).map(text => Buffer.from(text));
const value = fc
  .array(fc.oneof(special, fc.uint8Array({ maxLength: 40 })), { maxLength: 12 })
  .map(parts => Buffer.concat(parts));

test('values are escaped as one by one, whatever their length and however much is passed on together', () => {
  fc.assert(
    fc.property(fc.array(value), fc.integer({ min: 1, max: 300 }), (values, size) => {
      const chunks: Buffer[] = [];
      const buffer = new EscapingBuffer(size, chunk => chunks.push(Buffer.from(chunk)));
      let wanted = '';
      for (const one of values) {
        buffer.put("'");
        buffer.putEscaped(one);
        buffer.put("', and what follows it");
        wanted += `'${escaped(one)}', and what follows it`;
        assert.equal(buffer.written, wanted.length);
      }
      buffer.flush();
      assert.equal(Buffer.concat(chunks).toString('latin1'), wanted);
    }),
  );
});

test('a value of megabytes is escaped, also where all of it needs it', () => {
  for (const byte of ["'", 'x']) {
    let bytes = 0;
    const buffer = new EscapingBuffer(1000, chunk => {
      assert.ok(chunk.every((one, i) => one === (byte === 'x' || i % 2 === 1 ? byte : '\\').charCodeAt(0)));
      bytes += chunk.length;
    });
    buffer.putEscaped(Buffer.alloc(3_000_001, byte));
    buffer.flush();
    assert.equal(bytes, byte === 'x' ? 3_000_001 : 6_000_002);
  }
});
