import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { applyEdits, asBytes, bytesOfText, textOf } from '../../../src/core/bytes.js';
import { editsInJsonString, isEscaped, openJsonString } from '../../../src/core/json/strings.js';

/** The same text with some of its letters escaped that need not be. */
function escapedMore(json: string, every: number): string {
  let n = 0;
  return json.replace(/\\u....|\\.|[a-zé/]/gu, found =>
    found.length === 1 && ++n % every === 0
      ? `\\u${found.charCodeAt(0).toString(16).padStart(4, '0')}`
      : found,
  );
}

/** What is between the quotes of a JSON text that are not escaped. */
function stringsOf(json: string): string[] {
  const quotes = [...json.matchAll(/"/g)].map(({ index }) => index).filter(at => !isEscaped(json, 0, at));
  return quotes.flatMap((at, i) => (i % 2 === 0 ? [json.slice(at + 1, quotes[i + 1])] : []));
}

test('the strings of a JSON text are found and opened as JSON.parse reads them', () => {
  fc.assert(
    fc.property(
      fc.array(fc.string({ unit: 'grapheme' })),
      fc.integer({ min: 1, max: 5 }),
      (values, every) => {
        const json = bytesOfText(escapedMore(JSON.stringify(values), every));
        const opened = stringsOf(json).map(one => textOf(openJsonString(asBytes(one)).value));
        assert.deepEqual(opened, values);
      },
    ),
  );
});

test('a change of a value goes to the right place among escapes, and slashes keep their escaping', () => {
  const change = (raw: string) => {
    const bytes = bytesOfText(raw);
    const open = openJsonString(bytes);
    const start = open.value.indexOf('//old');
    const edits = [{ start, end: start + '//old'.length, put: asBytes('//"new"') }];
    return textOf(applyEdits(bytes, editsInJsonString(open, edits, 0)));
  };
  assert.equal(change('é\\n\\ud83d\\udea3 https://old/x'), 'é\\n\\ud83d\\udea3 https://\\"new\\"/x');
  assert.equal(change('\\u00e9 https:\\/\\/old\\/x'), '\\u00e9 https:\\/\\/\\"new\\"\\/x');
});
