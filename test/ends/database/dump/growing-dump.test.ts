import assert from 'node:assert/strict';
import { appendFileSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync } from 'node:zlib';
import { GrowingDump } from '../../../../src/ends/database/dump/growing-dump.js';
import { folder } from '../../../help/program.js';

const add = (dump: GrowingDump, text: string) => dump.add(async sink => sink.take(Buffer.from(text)));

test('a dump is resumed behind its noted pieces only if the file begins with them', async t => {
  const file = join(folder(t), 'dump.gz');
  const first = await GrowingDump.open(file);
  await add(first, 'one;');
  const noted = first.whole;
  appendFileSync(file, 'half a piece');

  const second = await GrowingDump.open(file, noted);
  assert.deepEqual(second.whole, noted);
  await add(second, 'two;');
  assert.equal(gunzipSync(readFileSync(file)).toString(), 'one;two;');

  // The note may be of another dump than the one that is there, which may be as long, longer or gone.
  for (const text of ['one.', 'another, which is longer: 0123456789;', '']) {
    writeFileSync(file, '');
    const other = await GrowingDump.open(file);
    if (text) await add(other, text);
    const dump = await GrowingDump.open(file, noted);
    assert.equal(dump.whole.bytes, 0, text);
    await add(dump, 'anew;');
    assert.equal(gunzipSync(readFileSync(file)).toString(), 'anew;');
  }
});
