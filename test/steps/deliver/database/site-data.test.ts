import assert from 'node:assert/strict';
import { test } from 'node:test';
import { readSheet } from '../../../../src/core/sheet/read.js';
import { drupal } from '../../../../src/core/site/families/drupal.js';
import { plain } from '../../../../src/core/site/families/plain.js';
import { wordpress } from '../../../../src/core/site/families/wordpress.js';
import { unmetWishes } from '../../../../src/steps/deliver/database/site-data.js';

test('what the sheet asks for and cannot be set for a kind of site is reported, and only that', () => {
  const sheet = readSheet(
    `name: club
old: { address: https://old.example }
new: { address: https://new.example }
configure: { title: Rowing, switch-off: ["*cache*"] }
`,
    'move.yaml',
    () => undefined,
  );
  const places = (family: typeof plain) => unmetWishes(sheet, family).map(({ place }) => place);
  assert.deepEqual(places(wordpress), []);
  assert.deepEqual(places(drupal), ['configure.switch-off']);
  assert.deepEqual(places(plain), ['configure.title', 'configure.switch-off']);
});
