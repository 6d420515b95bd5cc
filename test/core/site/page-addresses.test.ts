import assert from 'node:assert/strict';
import { test } from 'node:test';
import { asBytes } from '../../../src/core/bytes.js';
import { pageReader } from '../../../src/core/site/data/page-addresses.js';

type Rows = Record<string, readonly Record<string, string>[]>;

function pagesOf(family: string, tables: Rows): string[] {
  const reader = pageReader(family)!;
  for (const [table, rows] of Object.entries(tables))
    for (const row of rows)
      reader.row(
        table,
        Object.fromEntries(Object.entries(row).map(([name, value]) => [name, asBytes(value)])),
      );
  return reader.result().map(({ page }) => page);
}

const option = (option_name: string, option_value: string) => ({ option_name, option_value });
const post = (ID: string, post_name: string, more: Record<string, string> = {}) => ({
  ID,
  post_name,
  post_type: 'post',
  post_status: 'publish',
  post_parent: '0',
  post_author: '1',
  post_date: '2025-03-09 18:05:07',
  ...more,
});

test('every address of a WordPress site that its data names', () => {
  const tables: Rows = {
    options: [
      option('permalink_structure', '/log/%year%/%monthnum%/%category%/%postname%/'),
      option('tag_base', '/about'),
      option('page_on_front', '4'),
    ],
    posts: [
      post('7', 'spring-tide'),
      post('8', 'draft', { post_status: 'draft' }),
      post('9', 'revision', { post_type: 'revision' }),
      post('4', 'home', { post_type: 'page' }),
      post('5', 'crew', { post_type: 'page' }),
      post('6', 'cox', { post_type: 'page', post_parent: '5' }),
      post('11', 'boat', { post_type: 'attachment', post_status: 'inherit' }),
      post('12', 'gig', { post_type: 'boat' }),
    ],
    postmeta: [
      { post_id: '7', meta_key: '_wp_old_slug', meta_value: 'big-tide' },
      { post_id: '11', meta_key: '_wp_attached_file', meta_value: '2025/03/boat.png' },
    ],
    terms: [
      { term_id: '2', slug: 'tides' },
      { term_id: '3', slug: 'springs' },
      { term_id: '4', slug: 'moon' },
      { term_id: '5', slug: 'unused' },
    ],
    term_taxonomy: [
      { term_taxonomy_id: '20', term_id: '2', taxonomy: 'category', parent: '0' },
      { term_taxonomy_id: '30', term_id: '3', taxonomy: 'category', parent: '2' },
      { term_taxonomy_id: '40', term_id: '4', taxonomy: 'post_tag', parent: '0' },
      { term_taxonomy_id: '50', term_id: '5', taxonomy: 'post_tag', parent: '0' },
    ],
    term_relationships: [
      { object_id: '7', term_taxonomy_id: '30' },
      { object_id: '7', term_taxonomy_id: '40' },
    ],
    users: [{ ID: '1', user_nicename: 'tamsin' }],
  };
  assert.deepEqual(pagesOf('wordpress', tables).sort(), [
    ...[
      '/',
      '/',
      '/?attachment_id=11',
      '/?cat=3',
      '/?feed=rss2',
      '/?p=7',
      '/?page_id=4',
      '/?page_id=5',
      '/?page_id=6',
    ],
    ...['/?post_type=boat&p=12', '/?tag=moon', '/comments/feed/', '/crew/', '/crew/cox/', '/feed/'],
    ...[
      '/log/2025/03/tides/springs/big-tide/',
      '/log/2025/03/tides/springs/spring-tide/',
      '/log/about/moon/',
      '/log/about/moon/feed/',
    ],
    ...[
      '/log/author/tamsin/',
      '/log/category/tides/springs/',
      '/log/category/tides/springs/feed/',
      '/wp-content/uploads/2025/03/boat.png',
    ],
  ]);
  const plain = pagesOf('wordpress', { ...tables, options: [option('permalink_structure', '')] });
  assert.ok(
    plain.every(page => page === '/' || page.startsWith('/?') || page.startsWith('/wp-content/')),
    plain.join(),
  );
});

test('what is published in other families has its addresses too', () => {
  assert.deepEqual(
    pagesOf('drupal', {
      node_field_data: [
        { nid: '1', status: '1' },
        { nid: '2', status: '0' },
      ],
      taxonomy_term_field_data: [{ tid: '3', status: '1' }],
      path_alias: [
        { alias: '/tide', status: '1' },
        { alias: 'javascript:x', status: '1' },
      ],
    }),
    ['/', '/rss.xml', '/node/1', '/taxonomy/term/3', '/tide'],
  );
  assert.deepEqual(
    pagesOf('joomla', {
      content: [
        { id: '4', state: '1', alias: 'tide', catid: '2' },
        { id: '5', state: '-2', alias: 'bin', catid: '2' },
      ],
      menu: [
        { path: 'crew/cox', published: '1', client_id: '0', home: '0', type: 'component' },
        { path: 'x', published: '1', client_id: '1', home: '0', type: 'component' },
      ],
    }).slice(2),
    [
      '/index.php?option=com_content&view=article&id=4',
      '/index.php?option=com_content&view=article&id=4:tide&catid=2',
      '/index.php/crew/cox',
      '/crew/cox',
    ],
  );
  assert.ok(
    pagesOf('mediawiki', {
      page: [{ page_id: '1', page_namespace: '0', page_title: 'Spring_tide?' }],
    }).includes('/index.php/Spring_tide%3F'),
  );
  assert.equal(pageReader('plain'), undefined);
});
