import assert from 'node:assert/strict';
import { test } from 'node:test';
import { dangerOf, isScriptInUploads } from '../../../../src/core/pages/site/exposed.js';
import { kindOfPage, PageQueue } from '../../../../src/core/pages/site/queue.js';
import { readFeed, readSitemap } from '../../../../src/core/pages/site/sitemap.js';

test('sitemaps and feeds of every kind, and what is neither', () => {
  const loc = 'https://a.example/?a=1&amp;b=2';
  assert.deepEqual(
    readSitemap(`<?xml version="1.0"?><urlset xmlns="x"><url><loc> ${loc} </loc></url></urlset>`),
    { pages: ['https://a.example/?a=1&b=2'], sitemaps: [] },
  );
  assert.deepEqual(
    readSitemap('<s:urlset xmlns:s="x"><s:url><s:loc><![CDATA[https://a/]]></s:loc></s:url></s:urlset>')
      ?.pages,
    ['https://a/'],
  );
  assert.deepEqual(
    readSitemap(
      '<sitemapindex><sitemap><loc>https://a/1.xml</loc></sitemap><sitemap><loc>https://a/2.xml</loc></sitemap></sitemapindex>',
    )?.sitemaps,
    ['https://a/1.xml', 'https://a/2.xml'],
  );
  assert.deepEqual(readSitemap('<urlset></urlset>'), { pages: [], sitemaps: [] });
  for (const xml of ['', '<html></html>', 'not xml', '<urlset', '<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>'])
    assert.equal(readSitemap(xml)?.pages.length ?? 0, 0, xml);
  assert.deepEqual(
    readFeed(
      '<rss><channel><title>T</title><link>https://a/</link><item><link>https://a/1/</link></item></channel></rss>',
    ),
    { title: 'T', links: ['https://a/', 'https://a/1/'] },
  );
  assert.deepEqual(
    readFeed('<feed xmlns="a"><title type="text">T</title><entry><link href="https://a/1/"/></entry></feed>'),
    { title: 'T', links: ['https://a/1/'] },
  );
  assert.equal(readFeed('<html></html>'), undefined);
});

test('entities that would become endless are not resolved', () => {
  const bomb = `<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">${'bcdefgh'
    .split('')
    .map((name, i) => `<!ENTITY ${name} "${`&${'abcdefg'[i]};`.repeat(10)}">`)
    .join('')}]><urlset><url><loc>&h;</loc></url></urlset>`;
  const [first = ''] = readSitemap(bomb)?.pages ?? [];
  assert.ok(first.length < 100);
});

test('a sample has pages of every kind', () => {
  const queue = new PageQueue();
  queue.add('/', true);
  for (let n = 0; n < 500; n++) queue.add(`/2026/${n % 12}/article-${n}/`);
  for (const path of ['/contact/', '/gallery/summer/', '/?page_id=3', '/wp-login.php']) queue.add(path);
  const taken = Array.from({ length: 12 }, () => queue.take()!);
  for (const path of ['/', '/contact/', '/gallery/summer/', '/?page_id=3', '/wp-login.php'])
    assert.ok(taken.includes(path), path);
  assert.equal(queue.known, 505);
  assert.equal(kindOfPage('/2025/03/a/'), kindOfPage('/2026/11/b/'));
  assert.notEqual(kindOfPage('/?p=1'), kindOfPage('/?s=1'));
});

test('what is no page, or does something, is not asked for', () => {
  const queue = new PageQueue();
  for (const path of [
    '/a.png',
    '/feed/',
    '/a/feed',
    '/?action=delete',
    '/wp-login.php?action=logout',
    '/x.pdf?y',
    '/?add-to-cart=3',
    `/${'a'.repeat(3000)}`,
  ])
    assert.ok(!queue.add(path), path);
  assert.ok(queue.add('/a/#top') && !queue.add('/a/'));
});

test('files that give something away, by what they are', () => {
  const bad = [
    'dump.sql',
    'a/b/old.sql.gz',
    'wp-config.php.bak',
    'wp-config.php~',
    'wp-config.old.php'.replace('.old.php', '.php.save'),
    'configuration.php-old',
    '.wp-config.php.swp',
    '.env',
    'app/.env.local',
    '.git/HEAD',
    'sub/.git/config',
    'site.zip',
    'backup/all.tar.gz',
    'error_log',
    'wp-content/debug.log',
    '.htpasswd',
    'server.key',
    '.able-porter-club/keepsake/files/a',
  ];
  for (const path of bad) assert.ok(dangerOf(path), path);
  const good = [
    'wp-config.php',
    'index.php',
    'wp-content/uploads/2026/11/rules.zip',
    'images/press.zip',
    'readme.html',
    'a.sqlite-notes.txt',
    '.gitignore',
    '.well-known/security.txt',
    'monkey',
  ];
  for (const path of good) assert.equal(dangerOf(path), undefined, path);
});

test('a program among uploads, and a file that only keeps them from being listed', () => {
  const folders = ['wp-content/uploads/'];
  assert.ok(isScriptInUploads('wp-content/uploads/2026/x.php', 10, folders));
  assert.ok(isScriptInUploads('wp-content/uploads/index.php', 5_000, folders));
  assert.ok(isScriptInUploads('wp-content/uploads/a.PHTML', 1, folders));
  assert.ok(!isScriptInUploads('wp-content/uploads/index.php', 28, folders));
  assert.ok(!isScriptInUploads('wp-content/plugins/a.php', 10, folders));
  assert.ok(!isScriptInUploads('wp-content/uploads/a.php.png', 10, folders));
});
