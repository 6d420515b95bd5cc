import assert from 'node:assert/strict';
import { test } from 'node:test';
import { drupal } from '../../../src/core/site/families/drupal.js';
import { plain } from '../../../src/core/site/families/plain.js';
import { wordpress } from '../../../src/core/site/families/wordpress.js';
import { ownershipOf, takenOf } from '../../../src/core/site/survey/site-tables.js';

const core = ['options', 'posts', 'users'];
const under = (prefix: string, ...names: string[]) => names.map(name => prefix + name);
const owned = (site: Parameters<typeof ownershipOf>[0], tables: readonly string[]) =>
  tables.filter(ownershipOf(site, tables));

test('under a longer prefix is another site where its core tables are complete, otherwise an extension', () => {
  const site = { family: wordpress, prefix: 'fh7_' };
  const own = under('fh7_', ...core, 'x_log', 'forum_posts');
  const others = [...under('fh7_x_', ...core, 'log'), ...under('oth_', ...core), 'stray', 'able_porter_load'];
  // Of a table whose name begins as that of the other site nobody can say more.
  assert.deepEqual(owned(site, [...own, ...others]), under('fh7_', ...core, 'forum_posts'));
  assert.deepEqual(owned(site, [...own, ...under('oth_', ...core), 'stray']), own);
  assert.deepEqual(owned({ ...site, prefix: 'fh7_x_' }, others), under('fh7_x_', ...core, 'log'));
  // The tables of another kind of site.
  assert.deepEqual(owned(site, [...own, ...under('fh7_d_', 'config', 'users', 'node')]), own);
});

test('the numbered tables of a network belong to it; without a network they are another site', () => {
  const site = { family: wordpress, prefix: 'wp_' };
  const second = under('wp_2_', ...core);
  assert.deepEqual(owned(site, [...under('wp_', ...core), ...second]), under('wp_', ...core));
  const network = under('wp_', ...core, 'blogs');
  assert.deepEqual(owned(site, [...network, ...second]), [...network, ...second]);
});

test('without a prefix all is the site’s that is no other site’s', () => {
  const own = ['config', 'users', 'node', 'cache_page'];
  const others = under('wp_', ...core);
  assert.deepEqual(owned({ family: drupal, prefix: undefined }, [...own, ...others]), own);
  assert.deepEqual(owned({ family: plain, prefix: undefined }, ['members', ...others]), ['members']);
});

test('a sheet takes more, less, only some, or only how they are made', () => {
  const site = { family: wordpress, prefix: 'wp_' };
  const tables = [...under('wp_', ...core, 'log', 'stats'), 'forum', 'other', 'able_porter_old1_wp_posts'];
  const taken = (wish: Parameters<typeof takenOf>[2]) => {
    const of = takenOf(site, tables, wish);
    return tables
      .filter(table => of(table) !== 'nothing')
      .map(table => `${table}${of(table) === 'all' ? '' : ' -'}`);
  };
  assert.deepEqual(taken({}), under('wp_', ...core, 'log', 'stats'));
  assert.deepEqual(
    taken({ also: ['forum', 'able_porter_*'], without: ['*_log'], 'without-rows': ['*_stats'] }),
    [...under('wp_', ...core), 'wp_stats -', 'forum'],
  );
  assert.deepEqual(taken({ only: ['*o*'], without: ['other'] }), [
    'wp_options',
    'wp_posts',
    'wp_log',
    'forum',
  ]);
});
