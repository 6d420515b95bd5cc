import assert from 'node:assert/strict';
import { Readable } from 'node:stream';
import { buffer } from 'node:stream/consumers';
import { test } from 'node:test';
import { gunzipSync, inflateRawSync } from 'node:zlib';
import fc from 'fast-check';
import { Packing } from '../../../../src/ends/database/io/compress.js';

const packed = (chunks: readonly Buffer[], keepUp: boolean) =>
  buffer(Readable.from(chunks, { objectMode: false }).pipe(new Packing({ keepUp })));

test('what is packed unpacks to the same, as a file of one part', async () => {
  const some = fc.oneof(
    fc.uint8Array({ maxLength: 50 }),
    fc
      .record({ byte: fc.nat(255), size: fc.integer({ min: 1, max: 3_000_000 }) })
      .map(({ byte, size }) => Buffer.alloc(size, byte)),
  );
  await fc.assert(
    fc.asyncProperty(fc.array(some, { maxLength: 8 }), fc.boolean(), async (list, keepUp) => {
      const chunks = list.map(bytes => Buffer.from(bytes)).filter(({ length }) => length > 0);
      const given = Buffer.concat(chunks);
      const made = await packed(chunks, keepUp);
      assert.ok(gunzipSync(made).equals(given));
      // Some programs read only the first part of a file of several.
      assert.ok(inflateRawSync(made.subarray(10, -8)).equals(given));
    }),
    { numRuns: 40 },
  );
});

test('where packing would hold up the sender, pieces are stored as they are, and only then', async () => {
  const chunks = Array.from({ length: 30 }, (_, i) => Buffer.alloc(3_000_000, `${i} low water `));
  const given = Buffer.concat(chunks);
  const quick = await packed(chunks, true);
  assert.ok(quick.length > 3_000_000, `${quick.length}`);
  assert.ok(gunzipSync(quick).equals(given));
  assert.ok((await packed(chunks, false)).length < 3_000_000);
});
