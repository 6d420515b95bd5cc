import assert from 'node:assert/strict';
import { existsSync, mkdirSync, mkdtempSync, realpathSync, rmSync, symlinkSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { test } from 'node:test';
import fc from 'fast-check';
import { asBytes } from '../../../src/core/bytes.js';
import { LinksAbove, linkStaysInside, readEntryLine, staysInside } from '../../../src/core/files/entries.js';
import { leftOut } from '../../../src/core/files/patterns.js';

test('paths and links that lead outside are seen', () => {
  for (const path of ['', '/a', '../a', 'a/../b', 'a//b', './a', 'a/', 'a\0b'])
    assert.equal(staysInside(path), false, path);
  assert.ok(staysInside('a/..b/c d'));
  assert.ok(
    linkStaysInside('a/b/link', '../../c') &&
      !linkStaysInside('a/link', '../../c') &&
      !linkStaysInside('l', '/etc'),
  );
  assert.throws(() => readEntryLine('{"path":"../x","type":"file"}'), /leads out/);
  assert.throws(() => readEntryLine('{"path":"x"'), /not JSON/);
  const line = (more: object) =>
    JSON.stringify({
      path: 'x',
      type: 'file',
      size: 1,
      mode: '6755',
      mtime: '2026-01-02T03:04:05Z',
      ...more,
    });
  assert.equal(readEntryLine(line({})).mode, 0o755);
  for (const [field, values] of Object.entries({
    size: [-1, 1.5, '1', null, 2 ** 60],
    mode: ['9', 420, ''],
    mtime: ['x', 5],
    sha256: ['x', 5],
  }))
    for (const value of values)
      assert.throws(() => readEntryLine(line({ [field]: value })), new RegExp(`its ${field} is`), `${value}`);
  assert.throws(() => readEntryLine('{"path":"a/l","type":"link","to":"../../etc"}'), /link leads out/);
});

test('gitignore patterns leave out folders and files', () => {
  const out = leftOut(['wp-content/cache/', '*.log', '!keep.log']);
  const of = (path: string, type: 'file' | 'folder' = 'file') => out({ path: asBytes(path), type });
  assert.ok(of('wp-content/cache', 'folder') && of('a/b.log') && !of('a/keep.log') && !of('cache', 'folder'));
});

test('whatever links a tree has that are admitted, nothing in it leads outside', () => {
  const name = fc.constantFrom('a', 'b', 'c');
  const path = fc.array(name, { minLength: 1, maxLength: 4 }).map(parts => parts.join('/'));
  const target = fc
    .array(fc.oneof(name, fc.constantFrom('..', '.', '')), { minLength: 1, maxLength: 6 })
    .map(parts => parts.join('/'));
  fc.assert(
    fc.property(fc.array(fc.tuple(path, target), { maxLength: 12 }), links => {
      const above = realpathSync(mkdtempSync(join(tmpdir(), 'able-porter-test-')));
      try {
        const root = join(above, 'x/y/root');
        mkdirSync(root, { recursive: true });
        for (const at of ['a/b/c', 'b/a', 'c']) mkdirSync(join(above, 'x', at), { recursive: true });
        const links_ = new LinksAbove();
        const made: string[] = [];
        for (const [at, to] of links) {
          const entry = { path: asBytes(at), type: 'link' } as const;
          if (existsSync(join(root, at)) || !linkStaysInside(at, to) || links_.has(entry)) continue;
          try {
            mkdirSync(join(root, at, '..'), { recursive: true });
            symlinkSync(to, join(root, at));
            made.push(at);
          } catch {
            // Something else has that name.
          }
        }
        for (const at of made) {
          let real: string;
          try {
            real = realpathSync(join(root, at));
          } catch {
            // It leads nowhere, or in a circle.
            continue;
          }
          assert.ok(`${real}/`.startsWith(`${root}/`), `${at} leads to ${real}`);
        }
      } finally {
        rmSync(above, { recursive: true });
      }
    }),
    { numRuns: 300 },
  );
});
