import { type Family, movedFacts } from './family.js';
import { editPhpFacts, hostAndPort, type PhpNames, readPhpFacts } from './php-family.js';

/** Where each fact stands in wp-config.php: https://developer.wordpress.org/apis/wp-config-php/ */
const names: PhpNames = {
  name: 'DB_NAME',
  user: 'DB_USER',
  password: 'DB_PASSWORD',
  host: 'DB_HOST',
  charset: 'DB_CHARSET',
  prefix: '$table_prefix',
  home: 'WP_HOME',
  siteAddress: 'WP_SITEURL',
  cookieDomain: 'COOKIE_DOMAIN',
};

const ownKeys =
  /^(?:\d+_)?(?:capabilities|user_level|user-settings|user-settings-time|dashboard_quick_press_last_post_id|user_roles|media_library_mode|persisted_preferences)$/;

export const wordpress: Family = {
  name: 'wordpress',
  configurations: ['wp-config.php', '../wp-config.php'],

  marks: [['wp-includes/version.php'], ['wp-config.php', 'wp-load.php'], ['wp-config.php']],
  readConfiguration: source => readPhpFacts(source, names),
  editConfiguration: (source, wanted) => editPhpFacts(source, names, wanted),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  moved: (facts, move) => movedFacts(facts, ['home', 'siteAddress'], move),
  prefixed: [
    { table: 'usermeta', column: 'meta_key', carries: rest => ownKeys.test(rest) },
    { table: 'options', column: 'option_name', carries: rest => rest === 'user_roles' },
  ],
  leave: ['*posts.guid'],
  without: ['wp-content/cache/', 'wp-content/upgrade/', '*.log', 'error_log'],
  generated: ['wp-content/uploads/'],
  landmark: /^(?:\\*\/|%2f)(?:wp-content|wp-includes|wp-admin|wp-json|wp-login\.php)/i,
  loginPage: 'wp-login.php',
  coreTables: ['options', 'posts', 'users'],

  troubleIn(html) {
    if (/<title>[^<]*(?:Installation|Setup Configuration File)[^<]*<\/title>/i.test(html))
      return 'installation page';
    return /Error establishing a database connection/i.test(html) ? 'database error' : undefined;
  },
};
