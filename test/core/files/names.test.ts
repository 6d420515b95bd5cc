import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { asBytes, type ByteString, bytesOfText } from '../../../src/core/bytes.js';
import { ArchiveNames } from '../../../src/core/files/archive-names.js';
import { linkStaysInside, staysInside } from '../../../src/core/files/entries.js';
import { timeOfListing } from '../../../src/core/files/listing-time.js';
import { NameLook } from '../../../src/core/files/names.js';

const part = fc.constantFrom('a', 'A', 'b', '..', '.', '', 'ü', 'u\u0308', 'C:', 'l', '\\');
const path = fc.array(part, { minLength: 1, maxLength: 4 }).map(parts => parts.join('/'));

test('whatever an archive holds, what is admitted stays inside, is there once, and goes by no link', () => {
  const entry = fc.record({
    name: path,
    type: fc.constantFrom('file', 'directory', 'symlink', 'link', 'character-device', 'fifo'),
    to: path,
  });
  fc.assert(
    fc.property(fc.array(entry, { maxLength: 30 }), entries => {
      const names = new ArchiveNames();
      const admitted = entries
        .map(one => ({ ...one, name: bytesOfText(one.name) as string }))
        .filter(one => names.refuses(one) === undefined);
      const links = admitted.filter(({ type }) => type === 'symlink');
      const folded = new Map<string, string>();
      for (const { name, type, to } of admitted) {
        const bare = name.replace(/\/$/, '');
        assert.ok(staysInside(bare) && !name.startsWith('/') && !name.includes('\\'));
        assert.ok(['file', 'directory', 'symlink'].includes(type));
        if (type === 'symlink') assert.ok(linkStaysInside(bare, to));
        const key = Buffer.from(bare, 'latin1').toString().normalize('NFC').toLowerCase();
        if (type !== 'directory') assert.ok(!folded.has(key));
        else assert.ok([undefined, bare].includes(folded.get(key)));
        folded.set(key, bare);
      }
      for (const link of links) {
        const later = admitted.slice(admitted.indexOf(link) + 1);
        assert.ok(!later.some(({ name }) => name.startsWith(`${link.name}/`)));
      }
    }),
    { numRuns: 2000 },
  );
});

async function findingsOn(place: string, paths: readonly ByteString[]): Promise<string[]> {
  const entries = paths.map(path => ({ path, type: 'file' as const, size: 1, mode: 0o644, mtime: 0 }));
  const look = new NameLook();
  for (const entry of entries) look.add(entry);
  const again = async function* () {
    yield* entries;
  };
  const findings = await look.findings(place, again);
  return findings.map(({ code, place: at }) => `${code} ${at}`);
}

test('names that may not arrive are reported: clashing, too long, refused by Windows', async () => {
  const of = (...paths: string[]) => findingsOn('/site', paths.map(bytesOfText));
  assert.deepEqual(await of('a/Readme', 'a/readme', 'b/readme', 'é', 'plain'), [
    'names-clash /site/a/Readme',
  ]);
  assert.deepEqual(await of('é', 'e\u0301'), ['names-clash /site/é']);
  assert.deepEqual(await of(`a/${'x'.repeat(256)}`, 'y'.repeat(255)), [
    `name-too-long /site/a/${'x'.repeat(256)}`,
  ]);
  assert.deepEqual(await of('what?.html', 'con.txt', 'trail.', 'a: b', 'console', 'x.y'), [
    'name-refused-by-windows /site/what?.html',
  ]);
  assert.deepEqual(await findingsOn('/s', [asBytes('\xe9')]), []);
});

test('of a hundred thousand names just those are reported that clash', async () => {
  const names = Array.from({ length: 100_000 }, (_, i) => bytesOfText(`folder ${i % 97}/file ${i}`));
  assert.deepEqual(await findingsOn('/site', names), []);
  assert.deepEqual(await findingsOn('/site', [...names, bytesOfText('folder 5/FILE 5')]), [
    'names-clash /site/folder 5/file 5',
  ]);
});

test('a listing of old gives the same time again, in the year that it leaves out', () => {
  const now = Date.UTC(2026, 10, 23, 12);
  assert.equal(timeOfListing('Jul 14  2017', now), Date.UTC(2017, 6, 14));
  assert.equal(timeOfListing('Nov 23 11:58', now), Date.UTC(2026, 10, 23, 11, 58));
  assert.equal(timeOfListing('Dec 31 23:59', now), Date.UTC(2025, 11, 31, 23, 59));
  assert.equal(timeOfListing('11-23-26  12:14AM', now), Date.UTC(2026, 10, 23, 0, 14));
  assert.equal(timeOfListing('11-23-1999  02:14PM', now), Date.UTC(1999, 10, 23, 14, 14));
  assert.equal(timeOfListing('Foo 14 2017', now), undefined);
  assert.equal(timeOfListing('', now), undefined);
});
