import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import type { ByteString } from '../../../src/core/bytes.js';
import { pieceBytes, textBytes } from '../../../src/core/kernels/workbench.js';
import { type BytePattern, ManySearch } from '../../../src/core/search/many.js';
import { bench } from '../../help/bench.js';

const letters = fc.constantFrom('a', 'b', 'A', 'B', '.', '\xe9', '\xc9', 'z');
const word = fc.array(letters, { minLength: 1, maxLength: 5 }).map(list => list.join(''));

const sorted = (places: [number, number][]) => places.sort(([a, i], [b, j]) => a - b || i - j);

/** What a plain search finds: every place and pattern. */
function plainly(patterns: readonly BytePattern[], text: string): [number, number][] {
  const lower = (s: string) => s.replace(/[A-Z]/g, c => c.toLowerCase());
  const found: [number, number][] = [];
  for (const [index, pattern] of patterns.entries()) {
    const [s, wanted] = pattern.anyCase ? [lower(text), lower(pattern.text)] : [text, pattern.text];
    for (let at = s.indexOf(wanted); at >= 0; at = s.indexOf(wanted, at + 1)) found.push([at, index]);
  }
  return sorted(found);
}

function found(patterns: readonly BytePattern[], text: string | Buffer): [number, number][] {
  const places: [number, number][] = [];
  new ManySearch(bench, patterns).each(text as ByteString, (at, index) => places.push([at, index]));
  return sorted(places);
}

test('many patterns are found where a plain search finds them', () => {
  const pattern = fc.record({ text: word, anyCase: fc.boolean() });
  fc.assert(
    fc.property(
      fc.array(pattern, { minLength: 1, maxLength: 20 }),
      fc.array(letters, { maxLength: 200 }),
      (patterns, list) => {
        const text = list.join('');
        const expected = plainly(patterns, text);
        assert.deepEqual(found(patterns, text), expected);
        assert.deepEqual(found(patterns, Buffer.from(text, 'latin1')), expected);
      },
    ),
    { numRuns: 2000 },
  );
});

test('what need not be found right after a word is found everywhere else', () => {
  const pattern = fc.record({ text: word, anyCase: fc.boolean(), notInWord: fc.boolean() });
  fc.assert(
    fc.property(
      fc.array(pattern, { minLength: 1, maxLength: 8 }),
      fc.array(letters, { maxLength: 200 }),
      (patterns, list) => {
        const text = list.join('');
        const mayBeMissed = ([at, index]: [number, number]) =>
          patterns[index]!.notInWord && /\w/.test(text[at - 1] ?? '');
        const seen = found(patterns, Buffer.from(text, 'latin1'));
        const expected = plainly(patterns, text);
        assert.deepEqual(
          seen.filter(one => !mayBeMissed(one)),
          expected.filter(one => !mayBeMissed(one)),
        );
        assert.deepEqual(
          seen.filter(mayBeMissed),
          [],
          'a buffer that is searched at once has all before its places',
        );
      },
    ),
    { numRuns: 2000 },
  );
});

test('a long text is searched in pieces, and nothing at their edges is missed', () => {
  const patterns = ['ab', 'abcdefghijklmnopqrst', 'x'].map(text => ({ text, anyCase: true }));
  // The edges of pieces of strings, and of buffers.
  const edges = [textBytes, pieceBytes].flatMap(edge => [0, 1, 2, 19, 20].map(shift => edge - 25 + shift));
  for (const edge of edges) {
    const text = `${'-'.repeat(edge)}AbcdefghijklmnopqrstXab${'x'.repeat(200_000)}ab`;
    assert.deepEqual(found(patterns, text), plainly(patterns, text));
    assert.deepEqual(found(patterns, Buffer.from(text)), plainly(patterns, text));
  }
});

test('what was found in a block ahead is known of its parts, and of those that begin before it', t => {
  const block = bench.incoming.take()![0]!;
  t.after(() => bench.incoming.giveBack());
  fc.assert(
    fc.property(
      fc.array(
        word.map(text => ({ text, anyCase: true })),
        { minLength: 1, maxLength: 6 },
      ),
      fc.array(letters, { minLength: 1, maxLength: 300 }).map(list => list.join('')),
      fc.nat(),
      fc.array(fc.nat(), { maxLength: 4 }),
      (patterns, text, border, cuts) => {
        const all = Buffer.from(text, 'latin1');
        // So many bytes lie before the block.
        const before = border % all.length;
        const here = block.subarray(0, all.length - before);
        all.copy(here, 0, before);
        const search = new ManySearch(bench, patterns);
        const { table, anchors, most } = search.placesAhead(1)!;
        const place = here.byteOffset - bench.memory.byteOffset;
        const count = bench.kernels.find(table, place, here.length, here.length, anchors[0]!, most);
        search.foresee(here, anchors[0]!, count);
        const whole = bench.joined([all.subarray(0, before)], here);
        const edges = [0, ...cuts.map(cut => cut % all.length).sort((a, b) => a - b), all.length];
        for (const [i, from] of edges.slice(0, -1).entries()) {
          const part = whole.subarray(from, edges[i + 1]);
          const places: [number, number][] = [];
          assert.notEqual(search.leaveAnchors(part), undefined);
          search.each(part, (at, index) => places.push([at, index]));
          assert.deepEqual(sorted(places), plainly(patterns, part.toString('latin1')));
        }
        search.forget();
      },
    ),
    { numRuns: 1000 },
  );
});
