import assert from 'node:assert/strict';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { test } from 'node:test';
import fc from 'fast-check';
import { blockBytes } from '../../../../src/core/kernels/workbench.js';
import { DirectFile } from '../../../../src/ends/database/io/direct-file.js';
import { bench } from '../../../help/bench.js';

/** Bytes that encode where they are. */
const source = Buffer.alloc(8 << 20);
for (let at = 0; at < source.length; at += 4) source.writeUInt32LE(Math.imul(at, 2_654_435_761) >>> 0, at);

// A file system in memory knows no way past the cache, or another one.
for (const folder of [tmpdir(), '/dev/shm'].filter(one => existsSync(one))) {
  test(`in ${folder}: whatever the chunks, the file holds what was taken, of two that are written at once in both`, async () => {
    const root = mkdtempSync(join(folder, 'able-porter-'));
    const size = fc.oneof(fc.integer({ min: 0, max: 5000 }), fc.integer({ min: 0, max: 5 << 20 }));
    const chunk = fc.record({ size, placed: fc.boolean(), waits: fc.boolean() });
    await fc.assert(
      fc.asyncProperty(fc.array(chunk, { maxLength: 12 }), async chunks => {
        const files = ['a', 'b'].map(name => new DirectFile(bench, join(root, name), 'Writing'));
        let at = 0;
        for (const { size, placed, waits } of chunks) {
          for (const file of files) {
            let bytes: Buffer = Buffer.from(source.subarray(at, at + size));
            const place = file.place();
            if (placed && place && bytes.length <= place.length) {
              bytes.copy(place);
              bytes = place.subarray(0, bytes.length);
            }
            file.take(bytes);
            // Elsewhere it may be changed at once.
            if (bytes.buffer !== place?.buffer) bytes.fill(0);
            if (waits) await file.room(0);
          }
          at = Math.min(at + size, source.length);
        }
        for (const file of files) await file.end();
        const whole = source.subarray(0, at);
        for (const name of ['a', 'b']) assert.ok(readFileSync(join(root, name)).equals(whole), name);
      }),
      { numRuns: 25 },
    );
    assert.ok(bench.outgoing.take(), 'the blocks were given back');
    bench.outgoing.giveBack();
    rmSync(root, { recursive: true });
  });
}

test('blocks that are read and hardly change are written from where they lie, and stay as they are until they are read', async t => {
  const root = mkdtempSync(join(tmpdir(), 'able-porter-'));
  t.after(() => rmSync(root, { recursive: true }));
  const part = fc.record({
    percent: fc.integer({ min: 0, max: 100 }),
    put: fc.oneof(
      { weight: 12, arbitrary: fc.constant(undefined) },
      { weight: 1, arbitrary: fc.string({ unit: 'binary-ascii', maxLength: 90 }) },
      { weight: 1, arbitrary: fc.constant('longer than all blocks'.repeat(600_000)) },
    ),
    placed: fc.boolean(),
  });
  // Of each block of a file: what is handed on of it in turn, and how much is left over for the next.
  const piece = fc.record({
    parts: fc.array(part, { minLength: 1, maxLength: 5 }),
    rest: fc.constantFrom(0, 0, 1, 100, 5000),
    short: fc.constantFrom(0, 0, 0, 7),
  });
  let passedOn = 0;
  const { passOn } = bench;
  t.mock.method(bench, 'passOn', (...given: Parameters<typeof passOn>) => {
    const block = passOn.apply(bench, given);
    if (block) passedOn++;
    return block;
  });
  await fc.assert(
    fc.asyncProperty(fc.array(piece, { minLength: 1, maxLength: 6 }), async pieces => {
      const file = new DirectFile(bench, join(root, 'a'), 'Writing');
      const blocks = bench.incoming.take()!;
      const expected: Buffer[] = [];
      let left = Buffer.alloc(0);
      for (const [turn, { parts, rest, short }] of pieces.entries()) {
        const block = blocks[turn % blocks.length]!.subarray(0, blockBytes - short);
        source.copy(block, 0, turn * 1_234_567);
        const read = bench.joined([left], block);
        const before = Buffer.from(read);
        const end = read.length - rest;
        let at = 0;
        for (const [i, { percent, put, placed }] of parts.entries()) {
          const to = i === parts.length - 1 ? end : at + Math.floor((percent / 100) * (end - at));
          let chunk = read.subarray(at, to);
          if (put !== undefined) {
            // As the kernels carry out edits: into the place that is given, from where it is read.
            const changed = Buffer.concat([chunk, Buffer.from(put)]);
            const place = placed ? file.place() : undefined;
            chunk = place && place.length > changed.length ? place.subarray(0, changed.length) : changed;
            if (chunk !== changed) changed.copy(chunk);
            expected.push(Buffer.from(changed));
          } else expected.push(Buffer.from(chunk));
          file.take(chunk);
          assert.ok(read.subarray(to).equals(before.subarray(to)), 'what is not read yet did not change');
          at = to;
        }
        left = Buffer.from(read.subarray(end));
        await file.room(8 << 20);
      }
      bench.incoming.giveBack();
      await file.end();
      assert.ok(readFileSync(join(root, 'a')).equals(Buffer.concat(expected)));
    }),
    { numRuns: 60 },
  );
  assert.ok(passedOn > 0, 'blocks were passed on');
});

test('memory that is not lent may begin anywhere: some of it where a disk could take a block', async t => {
  const root = mkdtempSync(join(tmpdir(), 'able-porter-'));
  bench.outgoing.take();
  t.after(() => {
    bench.outgoing.giveBack();
    rmSync(root, { recursive: true });
  });
  const others: Buffer[] = [];
  for (let i = 0; i < 100; i++) {
    // So that blocks are elsewhere each time.
    others.push(Buffer.allocUnsafeSlow(4096 * (1 + (i % 37)) + 16 * i));
    if (others.length > 20) others.splice(0, 10);
    const file = new DirectFile(bench, join(root, 'a'), 'Writing');
    file.take(source.subarray(0, 5 << 20));
    await file.end();
  }
});

test('a file that cannot be created and a full disk are reported, and the blocks are given back', async () => {
  const missing = new DirectFile(bench, '/dev/nowhere/at/all', 'Writing the dump');
  missing.take(source);
  await assert.rejects(missing.end(), /Writing the dump/);
  await missing.destroy();
  const full = new DirectFile(bench, '/dev/full', 'Writing the dump');
  full.take(source);
  await assert.rejects(full.room(0), /Writing the dump: .*full/s);
  await full.destroy();
  assert.ok(bench.outgoing.take());
  bench.outgoing.giveBack();
});
