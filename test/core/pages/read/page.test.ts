import assert from 'node:assert/strict';
import { test } from 'node:test';
import { decodePage, mojibakeIn } from '../../../../src/core/pages/read/charset.js';
import { referencesOfCss } from '../../../../src/core/pages/read/css.js';
import { imageFault, isWrongType, mediaTypeOf } from '../../../../src/core/pages/read/media.js';
import { readPage } from '../../../../src/core/pages/read/page.js';
import { programMessagesIn } from '../../../../src/core/pages/read/program-messages.js';

test('what is in scripts and styles is not text, and every kind of asset is found', async () => {
  const read = await readPage(
    '<title> A </title><title>B</title><meta name=robots content="NOINDEX, follow"><link rel="stylesheet" href=s.css><link rel=canonical href=c><style>p{}</style><body>one<script>two</script><noscript>three</noscript><img srcset="a.png 1x, b.png 2x"><video poster=v.png><source src=v.mp4></video><a href=d>four</a>',
  );
  assert.deepEqual(
    [read.title, read.lines, read.links, read.canonical, read.robots],
    ['A', ['one', 'four'], [{ target: 'd', isMenu: false }], 'c', 'noindex, follow '],
  );
  assert.deepEqual(
    read.assets.map(({ target, kind, where }) => `${kind} ${target} ${where}`),
    [
      'style s.css link stylesheet',
      'image a.png img srcset',
      'image b.png img srcset',
      'image v.png video poster',
      'media v.mp4 source src',
    ],
  );
});

test('a page that is made to be large once it is parsed is read all the same', async () => {
  const size = 2 ** 21;
  const open = Array.from({ length: size / 20 }, (_, i) => `<b id=${i}>`).join('');
  const hostile = [
    // Each paragraph would open every element again.
    `<p>${open}${'</p><p>x'.repeat(size / 16)}`,
    '<div>'.repeat(size / 5),
    '<svg><title>'.repeat(size / 12),
    `<meta ${'<meta '.repeat(size / 6)}`,
    '<template>'.repeat(size / 10),
    `<a href="${'&amp;'.repeat(size / 5)}`,
    '<table><tr><td>x'.repeat(size / 16),
  ];
  for (const html of hostile) {
    const { links, assets } = await readPage(`<a href=first></a>${html}`);
    assert.deepEqual([links[0]?.target, assets], ['first', []]);
  }
  const { rss } = process.memoryUsage();
  assert.ok(rss < 1.5e9, `${rss} bytes`);
});

test('menus, forms, alternates and lines are told apart', async () => {
  const read = await readPage(
    '<html lang=de><head><meta charset=UTF-8><link rel=alternate hreflang=fr href=/fr/><link rel=alternate type="application/rss+xml" href=/feed/><meta property="og:url" content=u></head><nav><ul><li><a href=/a>A</a><nav><a href=/b>B</a></nav><a href=/c>C</a></ul></nav><a href=/d>D</a><div role=navigation><div><a href=/e>E</a></div></div><a href=/f>F</a><p>One <b>bold</b>\n line<br>two<textarea>x</textarea><form action=/s METHOD=POST><input name=q><input type=password name=p><select name=o></select></form></html>',
  );
  assert.deepEqual(
    read.links.map(({ target, isMenu }) => `${target} ${isMenu}`),
    ['/a true', '/b true', '/c true', '/d false', '/e true', '/f false'],
  );
  assert.deepEqual(read.lines.slice(-2), ['One bold line', 'two']);
  assert.deepEqual(read.forms, [
    {
      action: '/s',
      method: 'post',
      fields: [
        { name: 'q', type: 'text', value: '' },
        { name: 'p', type: 'password', value: '' },
        { name: 'o', type: 'select', value: '' },
      ],
    },
  ]);
  assert.deepEqual([read.language, read.charset, read.opened, read.closed], ['de', 'utf-8', true, true]);
  assert.deepEqual([read.alternates, read.feeds], [[{ language: 'fr', target: '/fr/' }], ['/feed/']]);
});

test('the addresses of a style sheet, however they are written', () => {
  const css = `/* url(no.png) */ @import "a.css"; @import url('b.css') screen; .x { background: url( "c d.png" ), URL(e.svg#f) } @font-face { src: url(g) format("woff2"), url(h.woff2?v=1) } .y { background: url(data:image/png;base64,AA==); fill: url(#id) }`;
  assert.deepEqual(
    referencesOfCss(css).map(({ kind, target }) => `${kind} ${target}`),
    ['style a.css', 'style b.css', 'image c d.png', 'image e.svg#f', 'font g', 'font h.woff2?v=1'],
  );
});

test('bytes become text as a browser reads them, and garbled letters are seen', () => {
  const latin = Buffer.from('Fähre', 'latin1');
  assert.equal(decodePage(latin, 'text/html; charset=iso-8859-1'), 'Fähre');
  assert.equal(
    decodePage(Buffer.concat([Buffer.from('<meta charset=windows-1252>'), latin]), 'text/html').slice(-5),
    'Fähre',
  );
  assert.equal(decodePage(Buffer.from('Fähre'), 'text/html; charset=nonsense'), 'Fähre');
  assert.match(decodePage(latin, 'text/html; charset=utf-8'), /\uFFFD/);
  for (const well of ['Fähre, naïve, 20 €, “so”, señor, Ångström, Ã', 'Âge', '日本語'])
    assert.equal(mojibakeIn(well), undefined, well);
  for (const bad of ['FÃ¤hre', 'donâ€™t', 'Â©', 'a\uFFFDb']) assert.equal(mojibakeIn(bad)?.count, 1, bad);
});

test('an image is one, whole, or what is wrong with it is said', () => {
  const png = Buffer.from(
    'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==',
    'base64',
  );
  assert.equal(imageFault(png), undefined);
  for (let cut = 8; cut < png.length; cut += 7) assert.ok(imageFault(png.subarray(0, cut)), `cut at ${cut}`);
  const gif = Buffer.from('R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7', 'base64');
  assert.equal(imageFault(gif), undefined);
  assert.ok(imageFault(gif.subarray(0, 30)));
  assert.equal(imageFault(Buffer.from('<svg xmlns="x"><path/></svg>\n')), undefined);
  assert.ok(imageFault(Buffer.from('<svg xmlns="x"><path/>')));
  assert.match(imageFault(Buffer.from('<!DOCTYPE html><p>'))!, /HTML/);
  assert.match(imageFault(Buffer.from('hello'))!, /no image/);
  assert.equal(mediaTypeOf(Buffer.from('wOF2....')), 'font');
  assert.ok(
    isWrongType('style', 'text/plain') &&
      isWrongType('script', 'text/html') &&
      isWrongType('image', 'text/html'),
  );
  assert.ok(
    !isWrongType('style', 'text/css; charset=utf-8') &&
      !isWrongType('script', 'application/javascript') &&
      !isWrongType('image', undefined),
  );
});

test('messages and source of the language, and what only speaks of them', () => {
  const kinds = (html: string) => programMessagesIn(html).map(({ kind }) => kind);
  assert.deepEqual(kinds('<b>Notice</b>:  Undefined index: a in <b>/srv/a.php</b> on line <b>3</b>'), [
    'message',
  ]);
  assert.deepEqual(
    kinds('PHP Parse error:  syntax error, unexpected token "}" in /srv/wp-content/x.php on line 9'),
    ['message'],
  );
  assert.deepEqual(kinds('Fatal error: Uncaught TypeError: a(): Argument #1 in /srv/b.php:4'), ['message']);
  assert.deepEqual(kinds('<?php echo 1;'), ['source']);
  for (const html of [
    'Warning: high water in the boathouse',
    '<code>&lt;?php echo 1;</code>',
    'Notice: the office in town is closed',
    '<script>var a="<?php";</script>',
    '<?xml version="1.0"?><p>',
  ])
    assert.deepEqual(kinds(html), [], html);
});
