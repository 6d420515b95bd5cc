import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { asBytes, bytesOfText } from '../../../src/core/bytes.js';
import type { FileEntry } from '../../../src/core/files/entries.js';
import { FolderEntries } from '../../../src/ends/files/folder-entries.js';

const name = fc.oneof(
  fc.constantFrom('a', 'a-', 'a b', 'ab', 'B', 'with\nline', '"', '\\', '🚣', 'é').map(bytesOfText),
  // Not UTF-8.
  fc.constantFrom('\xff', '\xe9', 'a\x80b').map(asBytes),
  fc.string({ minLength: 1, maxLength: 200 }).map(text => bytesOfText(`n${text.replace(/[/\0]/g, '')}`)),
);
const entry: fc.Arbitrary<FileEntry> = fc
  .record({
    path: name,
    type: fc.constantFrom('file', 'folder', 'link'),
    size: fc.maxSafeNat(),
    mode: fc.nat(0o7777),
    mtime: fc.integer({ min: -1e12, max: 4e12 }),
  })
  .map(one => ({ ...one, to: one.type === 'link' ? bytesOfText('../../elsewhere/é') : undefined }));

test('a folder is known in its order and once each, also where its entries do not stay in memory', async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(fc.array(entry, { maxLength: 12 }), { maxLength: 12 }),
      fc.integer({ min: 1, max: 40 }),
      async (batches, most) => {
        const entries = new FolderEntries(most);
        for (const batch of batches) {
          await entries.add(batch);
          assert.ok(entries.size < most, 'what is held stays below the limit');
        }
        const seen: FileEntry[] = [];
        for await (const some of entries.inOrder()) seen.push(...some);
        await entries.forget();
        const paths = new Set(batches.flat().map(({ path }) => path));
        assert.deepEqual(
          seen.map(({ path }) => path),
          [...paths].sort(),
        );
        const all = batches.flat().map(one => JSON.stringify(one));
        for (const { path, type, size, mode, mtime, to } of seen)
          assert.ok(all.includes(JSON.stringify({ path, type, size, mode, mtime, to })));
      },
    ),
  );
});
