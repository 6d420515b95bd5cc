import { asBytes } from '../bytes.js';
import { type Family, movedFacts } from './family.js';
import { editPhpFacts, type PhpNames, readPhpFacts } from './php-family.js';

/** The databases array of settings.php: https://www.drupal.org/docs/drupal-apis/database-api/database-configuration */
const database = '$databases.default.default';
const names: PhpNames = {
  name: `${database}.database`,
  user: `${database}.username`,
  password: `${database}.password`,
  host: `${database}.host`,
  port: `${database}.port`,
  prefix: `${database}.prefix|${database}.prefix.default`,
  siteAddress: '$base_url',
  cookieDomain: '$cookie_domain',
  temporaryPath: '$settings.file_temp_path',
  logPath: '$settings.file_private_path',
};

export const drupal: Family = {
  name: 'drupal',
  configurations: ['sites/default/settings.php', 'web/sites/default/settings.php'],
  marks: [
    ['core/lib/Drupal.php', 'sites/default/settings.php'],
    ['core/lib/Drupal.php'],
    ['web/core/lib/Drupal.php'],
    ['includes/bootstrap.inc', 'sites/default/settings.php'],
  ],
  readConfiguration: source => readPhpFacts(source, names),
  editConfiguration: (source, wanted) => editPhpFacts(source, names, wanted),
  databaseServer: (host, port, facts) => ({
    host: asBytes(host),
    ...(facts.port || (port !== undefined && port !== 3306) ? { port: asBytes(String(port ?? 3306)) } : {}),
  }),
  moved: (facts, move) => movedFacts(facts, ['siteAddress', 'temporaryPath', 'logPath'], move),
  prefixed: [],
  leave: [],
  without: ['sites/default/files/css/', 'sites/default/files/js/', 'sites/default/files/php/', '*.log'],
  generated: ['sites/default/files/'],
  landmark: /^(?:\\*\/|%2f)(?:sites\/default\/files|core\/(?:misc|themes)|node\/\d|user\/login)/i,
  loginPage: 'user/login',
  coreTables: ['config', 'users', 'node'],
  troubleIn(html) {
    if (/<title>[^<]*(?:Choose language|Select an installation profile)[^<]*<\/title>/i.test(html))
      return 'installation page';
    return /The website encountered an unexpected error|PDOException/i.test(html)
      ? 'database error'
      : undefined;
  },
};
