import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseSize } from '../../../src/core/text/sizes.js';
import { panelFindings } from '../../../src/steps/survey/dump.js';

test('a dump above the upload limit is reported, with a size of pieces that is not above it', () => {
  type Move = Parameters<typeof panelFindings>[0];
  const moveTo = (path: string, parts?: string) =>
    ({ sheet: { new: { database: { parts } } }, newDump: { path, text: path } }) as unknown as Move;
  const dump = { tables: [{ name: 'a', rows: 1, bytes: 4_000_000 }] };
  for (const limit of [1024, 300_000, 2 * 1024 ** 2, 2_999_999]) {
    const [found] = panelFindings(moveTo('new.sql'), dump, limit);
    const size = /parts: (.+)$/.exec(found?.remedy ?? '')?.[1] ?? assert.fail(`nothing for ${limit}`);
    assert.ok(parseSize(size, '') <= limit, `${size} for ${limit}`);
  }
  assert.deepEqual(panelFindings(moveTo('new.sql'), dump, 4_000_000), []);
  assert.deepEqual(panelFindings(moveTo('new.sql.gz'), dump, 2_000_000), []);
  assert.deepEqual(panelFindings(moveTo('new.sql', '1 MiB'), dump, 2_000_000), []);
  assert.deepEqual(panelFindings(moveTo('new.sql'), dump, undefined), []);
});
