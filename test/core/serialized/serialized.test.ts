import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { applyEdits, asBytes, bytesOfText } from '../../../src/core/bytes.js';
import { countings } from '../../../src/core/serialized/charsets.js';
import { decodeSerialized } from '../../../src/core/serialized/decode.js';
import { type Encodable, encodeSerialized } from '../../../src/core/serialized/encode.js';
import { mendSerialized } from '../../../src/core/serialized/mend.js';
import { isDamage, readSerialized } from '../../../src/core/serialized/spans.js';

const { data } = fc.letrec<{ data: Encodable }>(tie => ({
  data: fc.oneof(
    { maxDepth: 4 },
    fc.constant(null),
    fc.boolean(),
    fc.integer(),
    fc.string({ unit: 'grapheme' }),
    fc.dictionary(fc.stringMatching(/^[a-z][a-z"};:é]{0,6}$/), tie('data'), { noNullPrototype: true }),
  ),
}));

test('what is encoded is read back, whole and with every length where it is', () => {
  fc.assert(
    fc.property(data, value => {
      const written = encodeSerialized(value);
      assert.deepEqual(JSON.parse(JSON.stringify(decodeSerialized(written))), value);
      const read = readSerialized(written, 0, written.length);
      assert.ok(!isDamage(read));
      assert.equal(read.end, written.length);
      for (const { digitsStart, digitsEnd, start, end } of read.spans)
        assert.equal(Number(written.slice(digitsStart, digitsEnd)), end - start);
    }),
  );
});

test('a value that is cut anywhere is damage, and never read past its end', () => {
  const whole = encodeSerialized({ a: ['x"};', { b: 1 }], c: true, d: null });
  for (let high = 0; high < whole.length; high++) {
    assert.ok(isDamage(readSerialized(whole.slice(0, high), 0, high)), String(high));
    assert.ok(isDamage(readSerialized(whole, 0, high)), String(high));
  }
  for (const bad of ['a:99999999999999999999999:{}', 's:-1:"";', 'O:1:"AB":0:{}', 'b:2;', 'a:1:{i:0;}'])
    assert.ok(isDamage(readSerialized(bad, 0, bad.length)), bad);
});

test('lengths that a plain replacement broke are mended where there is one way only', () => {
  const right = encodeSerialized({ url: 'https://new.example/a', list: ['one', 'two'] });
  assert.equal(
    mendSerialized(asBytes(right.replace('s:21:', 's:30:').replace('s:3:"one"', 's:9:"one"'))),
    right,
  );
  // The first string could end at either of two quotes.
  assert.equal(mendSerialized(asBytes('a:2:{i:0;s:9:"a";i:1;s:1:"b";i:1;s:1:"c";}')), undefined);
  assert.equal(mendSerialized(asBytes('a:1:{i:0;s:3:"abc"')), undefined);
});

test('lengths that count another character set lead to the same strings', () => {
  const text = 'Fähre über die Förde €';
  const inUtf8 = bytesOfText(text);
  const counted = [...text].length;
  const asLatin1 = `s:${counted}:"${inUtf8}";`;
  assert.ok(isDamage(readSerialized(asLatin1, 0, asLatin1.length)));
  const [counting] = countings(asLatin1);
  const read = readSerialized(asLatin1, 0, asLatin1.length, counting);
  assert.ok(!isDamage(read));
  const [span] = read.spans;
  assert.equal(asLatin1.slice(span!.start, span!.end), inUtf8);
  assert.equal(counting!.count(inUtf8), counted);
  const edited = applyEdits(asBytes(asLatin1), [
    { start: span!.start, end: span!.start + 1, put: asBytes('f') },
  ]);
  assert.ok(!isDamage(readSerialized(edited, 0, edited.length, countings(edited)[0])));
});
