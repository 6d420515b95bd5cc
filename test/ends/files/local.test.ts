import assert from 'node:assert/strict';
import { createHash, randomBytes } from 'node:crypto';
import { appendFileSync, writeFileSync } from 'node:fs';
import type { FileHandle } from 'node:fs/promises';
import { join } from 'node:path';
import { test } from 'node:test';
import { asBytes } from '../../../src/core/bytes.js';
import { LocalFiles } from '../../../src/ends/files/local.js';
import { writeAllAt } from '../../../src/ends/whole-file.js';
import { folder } from '../../help/program.js';

const [small, chunk] = [256 * 1024, 1 << 20];

test('files around every size that is read in another way come whole, from any place, with their checksums', async t => {
  const root = folder(t);
  const files = new LocalFiles(root);
  const sizes = [0, 1, 65_535, 65_536, small, small + 1, chunk - 1, chunk, chunk + 1, 3 * chunk + 7];
  const contents = new Map(sizes.map(size => [asBytes(`of ${size}`), randomBytes(size)]));
  for (const [name, content] of contents) writeFileSync(join(root, name), content);
  const sums = await files.checksums([...contents.keys(), asBytes('missing')], AbortSignal.timeout(60_000));
  assert.equal(sums.size, sizes.length);
  for (const [name, content] of contents) {
    assert.equal(sums.get(name), createHash('sha256').update(content).digest('hex'), name);
    for (const from of [0, 1, Math.floor(content.length / 2), content.length]) {
      const chunks: Buffer[] = [];
      for await (const one of files.read(name, from)) chunks.push(one);
      assert.ok(Buffer.concat(chunks).equals(content.subarray(from)), `${name} from ${from}`);
    }
  }
});

test('what is added to a file while it is read comes too', async t => {
  const root = folder(t);
  writeFileSync(join(root, 'log'), randomBytes(2 * chunk));
  let bytes = 0;
  for await (const one of new LocalFiles(root).read(asBytes('log'))) {
    if (bytes === 0) appendFileSync(join(root, 'log'), 'one line more\n');
    bytes += one.length;
  }
  assert.equal(bytes, 2 * chunk + 14);
});

test('a disk that takes a part of what is written gets the rest too', async () => {
  const [bytes, disk] = [randomBytes(1000), Buffer.alloc(1100)];
  const write = async (from: Buffer, offset: number, length: number, at: number) => ({
    bytesWritten: from.copy(disk, at, offset, offset + Math.min(length, 7)),
  });
  await writeAllAt({ write } as unknown as FileHandle, bytes, 100);
  assert.ok(disk.subarray(100).equals(bytes));
});
