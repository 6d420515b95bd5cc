import type { ByteString, Edit } from '../bytes.js';
import type { ByHand, FactName, Facts, Family, Wanted } from './family.js';
import { type PhpSettings, type PhpValue, phpLiteral, readPhp } from './php-source.js';

/** Where each fact stands in wp-config.php. */
const constants: Partial<Record<FactName, string>> = {
  name: 'DB_NAME',
  user: 'DB_USER',
  password: 'DB_PASSWORD',
  host: 'DB_HOST',
  charset: 'DB_CHARSET',
  home: 'WP_HOME',
  siteAddress: 'WP_SITEURL',
};

const ownKeys =
  /^(?:\d+_)?(?:capabilities|user_level|user-settings|user-settings-time|dashboard_quick_press_last_post_id|user_roles|media_library_mode|persisted_preferences)$/;

/** https://developer.wordpress.org/apis/wp-config-php/ and the tables of its database. */
export const wordpress: Family = {
  name: 'wordpress',
  configurations: ['wp-config.php', '../wp-config.php'],

  recognise: has => has('wp-includes/version.php') || has('wp-config.php') || has('wp-load.php'),

  readConfiguration(source) {
    const settings = readPhp(source);
    if (!settings) return undefined;
    const facts: Facts = {};
    for (const fact of [...(Object.keys(constants) as FactName[]), 'prefix'] as const) {
      const value = settingOf(settings, fact);
      if (value) facts[fact] = { value: value.value, line: value.line, source: value.source };
    }
    return facts;
  },

  editConfiguration(source: ByteString, wanted: Wanted) {
    const edits: Edit[] = [];
    const byHand: ByHand[] = [];
    const settings = readPhp(source);
    for (const [fact, put] of Object.entries(wanted) as [FactName, ByteString][]) {
      const value = settings && settingOf(settings, fact);
      if (value?.value === put) continue;
      if (value?.value === undefined)
        byHand.push({ fact, line: value?.line ?? 0, source: value?.source ?? '' });
      else edits.push({ start: value.start, end: value.end, put: phpLiteral(put) });
    }
    return { edits: edits.sort((a, b) => a.start - b.start), byHand };
  },

  databaseHost: (host, port) => (port === undefined || port === 3306 ? host : `${host}:${port}`),

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

function settingOf(settings: PhpSettings, fact: FactName): PhpValue | undefined {
  return fact === 'prefix'
    ? settings.variables.get('table_prefix')
    : settings.constants.get(constants[fact] ?? '');
}
