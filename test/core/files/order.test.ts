import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { asBytes, type ByteString } from '../../../src/core/bytes.js';
import type { FileEntry } from '../../../src/core/files/entries.js';
import { ahead, alongside } from '../../../src/core/files/order.js';
import { listTree } from '../../../src/ends/files/listings.js';

const name = fc.constantFrom('a', 'a-', 'a0', 'a b', 'b', 'B', '\xff', '.', '-', '0').map(one => `${one}x`);
const paths = fc.uniqueArray(
  fc.array(name, { minLength: 1, maxLength: 4 }).map(parts => parts.join('/')),
  { maxLength: 40 },
);

const entryAt = (path: string, type: FileEntry['type'] = 'file'): FileEntry => ({
  path: asBytes(path),
  type,
  size: 1,
  mode: 0o644,
  mtime: 0,
});

async function* listOf(sorted: readonly string[]): AsyncIterable<FileEntry> {
  for (const path of sorted) yield entryAt(path);
}

const sizes = fc
  .integer({ min: 1, max: 9 })
  .chain(most => fc.tuple(fc.constant(most), fc.integer({ min: 1, max: most })));

test('lists side by side come whole, in order, in slices that hold nothing twice and no more than they may', async () => {
  await fc.assert(
    fc.asyncProperty(paths, paths, paths, sizes, async (a, b, c, [most, first]) => {
      const lists = { a: a.sort(), b: b.sort(), c: c.sort() };
      const seen = { a: [] as string[], b: [] as string[], c: [] as string[] };
      let last = '';
      let size = first;
      for await (const slice of alongside({ a: listOf(a), b: listOf(b), c: listOf(c) }, most, first)) {
        let end = last;
        for (const key of ['a', 'b', 'c'] as const) {
          const here = [...slice[key].keys()];
          assert.ok(here.length <= size);
          // All lists are cut at the same path.
          for (const path of here) assert.ok(path > last);
          if (here.length > 0 && here.at(-1)! > end) end = here.at(-1)!;
          seen[key].push(...here);
        }
        last = end;
        size = Math.min(most, 2 * size);
      }
      assert.deepEqual(seen, lists);
    }),
  );
});

test('what is asked for ahead is there before its turn, its error comes in its turn, and its source is ended', async () => {
  const did: string[] = [];
  async function* source() {
    try {
      for (const item of [1, 2]) {
        did.push(`made ${item}`);
        yield item;
      }
      throw new Error('no more');
    } finally {
      did.push('ended');
    }
  }
  const items = ahead(source());
  await new Promise(setImmediate);
  assert.deepEqual(did, ['made 1'], 'the first is asked for at once');
  const seen: number[] = [];
  await assert.rejects(async () => {
    for await (const item of items) {
      await new Promise(setImmediate);
      seen.push(item);
      did.push(`took ${item}`);
    }
  }, /no more/);
  assert.deepEqual(did, ['made 1', 'made 2', 'took 1', 'ended', 'took 2']);
  did.length = 0;
  for await (const item of ahead(source())) if (item === 1) break;
  assert.equal(did.at(-1), 'ended');
});

test('a tree is listed in the order of its paths, without what is skipped or removed meanwhile', async () => {
  await fc.assert(
    fc.asyncProperty(paths, fc.nat(), fc.nat(), async (leaves, skipped, removed) => {
      const folders = new Set<string>();
      for (const path of leaves)
        for (let at = path.indexOf('/'); at > 0; at = path.indexOf('/', at + 1))
          folders.add(path.slice(0, at));
      const all = [...new Set([...leaves, ...folders])].sort();
      const isOut = (path: string) => all.length > 0 && path === all[skipped % all.length];
      const gone = new Set<ByteString>();
      const listing = async function* (folder: ByteString) {
        const depth = folder === '' ? 0 : folder.split('/').length;
        yield all
          .filter(
            path => path.split('/').length === depth + 1 && (depth === 0 || path.startsWith(`${folder}/`)),
          )
          .map(path => entryAt(path, folders.has(path) ? 'folder' : 'file'))
          .reverse();
      };
      const under = (path: string, above: string) => path === above || path.startsWith(`${above}/`);
      const seen: string[] = [];
      const away = folders.size > 0 ? [...folders][removed % folders.size] : undefined;
      const skip = (entry: FileEntry) => isOut(entry.path) || gone.has(entry.path);
      for await (const { path } of listTree(listing, skip, new AbortController().signal)) {
        seen.push(path);
        if (path === away) gone.add(path);
      }
      const out = all.filter(isOut);
      assert.deepEqual(
        seen,
        all.filter(
          path =>
            !out.some(one => under(path, one)) && !(away !== undefined && path !== away && under(path, away)),
        ),
      );
    }),
  );
});
