import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { ManySearch } from '../../../src/core/search/many.js';

const letters = fc.constantFrom('a', 'b', 'A', 'B', '.', '\xe9', '\xc9', 'z');
const word = fc.array(letters, { minLength: 1, maxLength: 5 }).map(list => list.join(''));

test('many patterns are found where a plain search finds them, the longest at a place', () => {
  fc.assert(
    fc.property(
      fc.uniqueArray(word, { minLength: 1, maxLength: 4 }),
      fc.array(letters, { maxLength: 60 }),
      fc.boolean(),
      (patterns, text, anyCase) => {
        const folded = (s: string) => (anyCase ? s.replace(/[A-Z]/g, c => c.toLowerCase()) : s);
        const s = folded(text.join(''));
        const found: [number, string][] = [];
        for (let at = 0; at < s.length; at++) {
          const here = patterns.map(folded).filter(pattern => s.startsWith(pattern, at));
          if (here.length > 0) found.push([at, here.sort((a, b) => b.length - a.length)[0]!]);
        }
        const search = new ManySearch(patterns, anyCase);
        const bytes = Buffer.from(text.join(''), 'latin1');
        const seen: [number, string][] = [];
        for (let at = search.next(bytes, 0); at < bytes.length; at = search.next(bytes, at + 1))
          seen.push([at, folded(patterns[search.pattern]!)]);
        assert.deepEqual(seen, found);
      },
    ),
    { numRuns: 3000 },
  );
});
