import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseAddress } from '../../../../src/core/address/address.js';
import { applyEdits, asBytes } from '../../../../src/core/bytes.js';
import { redirectBlock } from '../../../../src/core/redirects/block.js';
import { readServerFile } from '../../../../src/core/site/configuration/server-files.js';
import { StrayFiles } from '../../../../src/core/site/survey/stray-files.js';

const move = (from: string, to: string) => ({
  oldAddress: parseAddress(from),
  newAddress: parseAddress(to),
  rewritten: (value: string) => asBytes(value.replace(from, to).replace('/home/old', '/srv/new')),
});
const toRoot = move('https://old.example/site', 'https://new.example');

function read(path: string, text: string, how = toRoot) {
  const { edits, findings } = readServerFile(path, asBytes(text), how, path);
  return {
    text: applyEdits(asBytes(text), edits),
    told: findings.map(({ code, place }) => `${code} ${place}`),
  };
}

test('.htaccess: the base, targets and error pages follow the path, and the rest stays', () => {
  const before = `# RewriteBase /site/
RewriteEngine On\r
RewriteBase /site/\r
RewriteCond %{REQUEST_FILENAME} !-f
RewriteRule ^index\\.php$ - [L]
RewriteRule . /site/index.php [L]
RewriteRule ^x /sitemap [L]
ErrorDocument 404 /site/404.html
php_value memory_limit 256M
php_value auto_prepend_file "/home/x/guard.php"
RewriteCond %{HTTP_HOST} ^old\\.example$
`;
  const { text, told } = read('.htaccess', before);
  assert.equal(
    text,
    before
      .replace('\nRewriteBase /site/', '\nRewriteBase /')
      .replace('/site/index.php', '/index.php')
      .replace('/site/404', '/404'),
  );
  assert.deepEqual(told, [
    'server-file-php .htaccess:9',
    'server-file-prepends .htaccess:10',
    'server-file-host .htaccess:11',
  ]);
  const inward = move('https://a.example', 'https://b.example/blog');
  assert.equal(
    read('.htaccess', 'RewriteBase /\nRewriteRule . /index.php [L]', inward).text,
    'RewriteBase /blog/\nRewriteRule . /blog/index.php [L]',
  );
  assert.equal(read('.htaccess', before, move('https://a.example/x', 'https://b.example/x')).text, before);
});

test('.user.ini, robots.txt and web.config: paths and addresses follow, the rest is reported', () => {
  const ini = read(
    '.user.ini',
    "; a note\nauto_prepend_file = '/home/old/guard.php'\nerror_log = /home/old/log\nsession.save_path = /var/x\n",
  );
  assert.match(ini.text, /error_log = \/srv\/new\/log/);
  assert.deepEqual(ini.told, ['server-file-prepends .user.ini:2', 'server-file-path .user.ini:4']);
  const robots = read(
    'robots.txt',
    'User-agent: *\nDisallow: /\nSitemap: https://old.example/site/map.xml\n',
  );
  assert.match(robots.text, /Sitemap: https:\/\/new\.example\/map\.xml/);
  assert.deepEqual(robots.told, ['robots-shut-out robots.txt:2']);
  assert.deepEqual(read('web.config', '<add input="{HTTP_HOST}" pattern="^old\\.example$" />').told, [
    'server-file-host web.config:1',
  ]);
  assert.deepEqual(read('index.php', 'RewriteBase /site/').text, 'RewriteBase /site/');
});

test('left-over files are reported by their kind; a clean site has none', () => {
  const told = (paths: Record<string, number>) => {
    const stray = new StrayFiles(true);
    for (const [path, bytes] of Object.entries(paths)) stray.look(path, bytes);
    return stray.findings('/s').map(({ level, code, place }) => `${level} ${code} ${place}`);
  };
  assert.deepEqual(
    told({
      'backup/club.sql.gz': 50_000,
      'site.zip': 2_000_000,
      'small.zip': 10,
      'my-installer.php': 10,
      'phpinfo.php': 1,
      '.maintenance': 1,
      'wp-content/object-cache.php': 1,
      'wp-content/plugins/quick-page-cache': 0,
      'shop/wp-config.php': 1,
    }),
    [
      'warn dump-in-web-root /s/backup/club.sql.gz',
      'warn archive-in-web-root /s/site.zip',
      'warn installer-in-web-root /s/my-installer.php',
      'warn maintenance-left /s/.maintenance',
      'warn drop-in /s/wp-content/object-cache.php',
      'note extension-may-interfere /s/wp-content/plugins/quick-page-cache',
      'note site-nested /s/shop/wp-config.php',
    ],
  );
  const clean = {
    'index.php': 1,
    'wp-config.php': 1,
    'wp-admin/install.php': 9,
    'wp-content/plugins/contact-desk': 0,
    'wp-content/uploads/a.png': 5_000_000,
    'vendor/x/composer/cache.php': 1,
    'administrator/components/x.sql': 90_000,
    'schema.sql': 300,
  };
  assert.deepEqual(told(clean), []);
});

test('.htaccess: redirects that were put at the old site stay there', () => {
  const own = 'Options -Indexes\r\nRewriteBase /site/\n';
  const put = redirectBlock.with(
    own,
    'RewriteEngine On\nRewriteBase /site/\nRewriteRule ^ https://new.example/ [R=301]\n',
  );
  const { text, told } = read('.htaccess', `# first\n${put}`);
  assert.equal(text, `# first\n${own.replace('/site/', '/')}`);
  assert.deepEqual(told, []);
});
