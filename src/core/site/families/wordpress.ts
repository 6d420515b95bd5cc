import { addressPath } from '../../address/address.js';
import { asBytes } from '../../bytes.js';
import {
  type Facts,
  movedCookieDomain,
  movedFacts,
  movedPath,
  type SiteMove,
  said,
  type Wanted,
} from '../configuration/source/facts.js';
import {
  editPhpFacts,
  hostAndPort,
  type PhpDialect,
  readPhpFacts,
} from '../configuration/source/php-facts.js';
import { folderOf, valueOfPath } from '../configuration/source/php-paths.js';
import { wordpressEdits } from '../data/wordpress-data.js';
import type { Family } from './family.js';

/** Where each fact is in wp-config.php: https://developer.wordpress.org/apis/wp-config-php/ */
const dialect: PhpDialect = {
  names: {
    name: 'DB_NAME',
    user: 'DB_USER',
    password: 'DB_PASSWORD',
    host: 'DB_HOST',
    charset: 'DB_CHARSET',
    prefix: '$table_prefix',
    home: 'WP_HOME',
    siteAddress: 'WP_SITEURL',
    cookieDomain: 'COOKIE_DOMAIN',
    'cookiePath.0': 'COOKIEPATH',
    'cookiePath.1': 'SITECOOKIEPATH',
    'cookiePath.2': 'ADMIN_COOKIE_PATH',
    'cookiePath.3': 'PLUGINS_COOKIE_PATH',
    temporaryPath: 'WP_TEMP_DIR',
    uploadPath: 'WP_CONTENT_DIR',
    cachePath: 'WPCACHEHOME',
    network: 'MULTISITE',
    networkHost: 'DOMAIN_CURRENT_SITE',
    networkPath: 'PATH_CURRENT_SITE',
    debug: 'WP_DEBUG',
    'secretKey.0': 'AUTH_KEY',
    'secretKey.1': 'SECURE_AUTH_KEY',
    'secretKey.2': 'LOGGED_IN_KEY',
    'secretKey.3': 'NONCE_KEY',
    'secretKey.4': 'AUTH_SALT',
    'secretKey.5': 'SECURE_AUTH_SALT',
    'secretKey.6': 'LOGGED_IN_SALT',
    'secretKey.7': 'NONCE_SALT',
  },
  ofProgram: /^(?:wp-settings\.php|wp-load\.php|wp-(?:includes|admin|content)\/)/,
  // What loads the configuration has defined ABSPATH before, with a slash at its end.
  givens: main => ({ ABSPATH: asBytes(`${valueOfPath(main.startsWith('../') ? '' : folderOf(main))}/`) }),
};

function moved(facts: Facts, move: SiteMove): Wanted {
  const wanted = movedFacts(facts, ['home', 'siteAddress', 'temporaryPath', 'uploadPath', 'cachePath'], move);
  const cookie = movedCookieDomain(facts, move);
  if (cookie !== undefined) wanted.cookieDomain = cookie;
  for (const name of ['cookiePath.0', 'cookiePath.1', 'cookiePath.2', 'cookiePath.3'] as const) {
    const next = movedPath(facts[name]?.value, move);
    if (next !== undefined) wanted[name] = next;
  }
  const { networkHost, networkPath } = facts;
  // Where the address has a port, so has the network's domain.
  const hostOf = ({ host, port }: SiteMove['oldAddress']) => (port === undefined ? host : `${host}:${port}`);
  if (networkHost?.value?.toLowerCase() === hostOf(move.oldAddress)) {
    const pathOf = (address: SiteMove['oldAddress']) => asBytes(`${addressPath(address)}/`);
    const next = hostOf(move.newAddress);
    if (next !== networkHost.value) wanted.networkHost = asBytes(next);
    if (networkPath?.value === pathOf(move.oldAddress) && pathOf(move.newAddress) !== networkPath.value)
      wanted.networkPath = pathOf(move.newAddress);
  }
  return wanted;
}

export const wordpress: Family = {
  name: 'wordpress',
  configurations: ['wp-config.php', '../wp-config.php'],
  configurationLike: /(?:^|\/)wp-config[\w.~-]*$/,
  marks: [['wp-includes/version.php'], ['wp-config.php', 'wp-load.php'], ['wp-config.php']],
  readConfiguration: files => readPhpFacts(files, dialect),
  editConfiguration: (files, wanted) => editPhpFacts(files, dialect, wanted),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  moved,
  quiet: [{ fact: 'debug', off: asBytes('') }],
  robots: undefined,
  maintenance: { file: '.maintenance', content: asBytes('<?php $upgrading = time();\n') },
  entryPoints: ['wp-load.php'],
  // https://developer.wordpress.org/advanced-administration/server/wordpress-in-directory/
  front: { file: 'index.php', loads: 'wp-blog-header.php' },
  versionFiles: ['wp-includes/version.php'],
  versionIn(source) {
    const file = source('wp-includes/version.php');
    return {
      version: said(file, /^\$wp_version\s*=\s*'([^']+)'/m),
      php: said(file, /^\$required_php_version\s*=\s*'([^']+)'/m),
      mysql: said(file, /^\$required_mysql_version\s*=\s*'([^']+)'/m),
    };
  },
  extensions: ['mysqli', 'json'],
  without: ['wp-content/cache/', 'wp-content/upgrade/', '*.log', 'error_log'],
  generated: ['wp-content/uploads/'],
  landmark: /^(?:\\*\/|%2f)(?:wp-content|wp-includes|wp-admin|wp-json|wp-login\.php)/i,
  loginPage: 'wp-login.php',
  web: {
    search: '/?s=',
    interface: '/wp-json/',
    feeds: ['/feed/', '/comments/feed/'],
    sitemaps: ['/wp-sitemap.xml', '/sitemap.xml', '/sitemap_index.xml'],
    administration: '/wp-admin/',
    notRead: ['/wp-admin/', '/wp-login.php', '/wp-cron.php', '/xmlrpc.php', '/wp-json/'],
  },
  coreTables: ['options', 'posts', 'users'],
  sets: ['title', 'tagline', 'administrator', 'switch-off'],
  dataEdits: wordpressEdits,
  networkTable: 'blogs',
  searchEngineRow: {
    table: 'options',
    column: 'option_value',
    where: { column: 'option_name', is: 'blog_public' },
    hidden: '0',
  },
  extensionsRow: {
    table: 'options',
    column: 'option_value',
    where: { column: 'option_name', is: 'active_plugins' },
  },
  addressRow: { table: 'options', column: 'option_value', where: { column: 'option_name', is: 'home' } },

  troubleIn(html) {
    if (/<title>[^<]*(?:Installation|Setup Configuration File)[^<]*<\/title>/i.test(html))
      return 'installation page';
    return /Error establishing a database connection/i.test(html) ? 'database error' : undefined;
  },
};
