import assert from 'node:assert/strict';
import { test } from 'node:test';
import { asBytes } from '../../../src/core/bytes.js';
import { linkStaysInside, readEntryLine, staysInside } from '../../../src/core/files/entries.js';
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
  assert.throws(() => readEntryLine('{"path":"a/l","type":"link","to":"../../etc"}'), /link leads out/);
});

test('gitignore patterns leave out folders and files', () => {
  const out = leftOut(['wp-content/cache/', '*.log', '!keep.log']);
  const of = (path: string, type: 'file' | 'folder' = 'file') => out({ path: asBytes(path), type });
  assert.ok(of('wp-content/cache', 'folder') && of('a/b.log') && !of('a/keep.log') && !of('cache', 'folder'));
});
