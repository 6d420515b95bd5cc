import assert from 'node:assert/strict';
import { test } from 'node:test';
import { SeenFolders } from '../../../src/core/address/server-paths.js';
import { wordpress } from '../../../src/core/site/families/wordpress.js';

test('folders on a server are distinguished from addresses, links and other paths', () => {
  const seen = (text: string) => {
    const folders = new SeenFolders(wordpress.landmark);
    folders.window(text);
    folders.look(0, text.length, 't');
    return folders.all().map(({ folder, count }) => `${folder} ${count}`);
  };
  assert.deepEqual(seen('s:9:"/home/a/site/wp-content/x";s:2:"/home/a/site/wp-includes/";'), [
    '/home/a/site 2',
  ]);
  assert.deepEqual(seen('{"p":"\\/var\\/www\\/html\\/wp-content\\/uploads"}'), ['/var/www/html 1']);
  for (const text of [
    'https://a.example/home/x/wp-content/',
    '//a.example/var/wp-content/',
    'src="/site/wp-content/x.png"',
    'home/a/wp-content/x',
    'C:/home/a/wp-content/x',
    '/home/a/other/x',
    '/wp-content/x',
  ])
    assert.deepEqual(seen(text), [], text);
  assert.deepEqual(seen(`${'/srv/www/a'.repeat(1)}/wp-admin/ ${'x'.repeat(500)}`), ['/srv/www/a 1']);
});
