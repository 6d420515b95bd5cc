import { asBytes, bytesOfText } from '../../bytes.js';
import { movedCookieDomain, movedFacts, movedPath, said } from '../configuration/source/facts.js';
import {
  editPhpFacts,
  hostAndPort,
  type PhpDialect,
  readPhpFacts,
} from '../configuration/source/php-facts.js';
import { type DataEdit, type DataWish, emptied, portableHash } from '../data/data-edits.js';
import type { Family } from './family.js';

/** configuration.php is a class of public properties: https://docs.joomla.org/Configuration.php */
const dialect: PhpDialect = {
  names: {
    name: 'JConfig.db',
    user: 'JConfig.user',
    password: 'JConfig.password',
    host: 'JConfig.host',
    prefix: 'JConfig.dbprefix',
    siteAddress: 'JConfig.live_site',
    cookieDomain: 'JConfig.cookie_domain',
    cookiePath: 'JConfig.cookie_path',
    logPath: 'JConfig.log_path',
    temporaryPath: 'JConfig.tmp_path',
    cachePath: 'JConfig.cache_path',
    debug: 'JConfig.debug',
    errorDetails: 'JConfig.error_reporting',
    offline: 'JConfig.offline',
    robots: 'JConfig.robots',
    title: 'JConfig.sitename',
    tagline: 'JConfig.MetaDesc',
    'secretKey.0': 'JConfig.secret',
  },
};

export const joomla: Family = {
  name: 'joomla',
  configurations: ['configuration.php'],
  configurationLike: /(?:^|\/)configuration[\w.~-]*\.(?:php|bak|old|txt|orig|save)[\w.~-]*$/,
  marks: [
    ['administrator/index.php', 'libraries/src/Version.php'],
    ['administrator/index.php', 'configuration.php'],
  ],
  readConfiguration: files => readPhpFacts(files, dialect),
  editConfiguration: (files, wanted) => editPhpFacts(files, dialect, wanted),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  moved(facts, move) {
    const wanted = movedFacts(facts, ['siteAddress', 'logPath', 'temporaryPath', 'cachePath'], move);
    const domain = movedCookieDomain(facts, move);
    const path = movedPath(facts.cookiePath?.value, move);
    return {
      ...wanted,
      ...(domain === undefined ? {} : { cookieDomain: domain }),
      ...(path === undefined ? {} : { cookiePath: path }),
    };
  },
  quiet: [
    { fact: 'debug', off: asBytes('') },
    { fact: 'errorDetails', off: asBytes('default') },
  ],
  robots: { hide: asBytes('noindex, nofollow'), show: asBytes('') },
  maintenance: { fact: 'offline', on: asBytes('1'), off: asBytes('') },
  entryPoints: ['index.php', 'administrator/index.php', 'api/index.php'],
  versionFiles: ['libraries/src/Version.php', 'administrator/manifests/files/joomla.xml', 'index.php'],
  versionIn(source) {
    const file = source('libraries/src/Version.php');
    const parts = ['MAJOR', 'MINOR', 'PATCH'].map(part =>
      said(file, new RegExp(`const ${part}_VERSION\\s*=\\s*(\\d+)`)),
    );
    const manifest = said(source('administrator/manifests/files/joomla.xml'), /<version>([^<]+)<\/version>/);
    return {
      version: parts.includes(undefined) ? manifest : parts.join('.'),
      php: said(source('index.php'), /JOOMLA_MINIMUM_PHP',\s*'([^']+)'/),
    };
  },
  extensions: ['json', 'simplexml', 'dom'],
  without: ['cache/', 'administrator/cache/', 'tmp/', '*.log', 'administrator/logs/', 'logs/'],
  generated: ['media/', 'images/'],
  landmark: /^(?:\\*\/|%2f)(?:index\.php\?option=|administrator\/|media\/|components\/|images\/)/i,
  loginPage: 'administrator/',
  web: {
    search: '/index.php?option=com_finder&view=search&q=',
    feeds: ['/index.php?format=feed&type=rss'],
    sitemaps: ['/sitemap.xml'],
    administration: '/administrator/index.php',
    notRead: ['/administrator/'],
  },
  coreTables: ['extensions', 'users', 'usergroups'],
  sets: ['title', 'tagline', 'administrator', 'switch-off'],
  dataEdits,
  troubleIn(html) {
    if (/<title>[^<]*(?:Web Installer|Installation)[^<]*<\/title>/i.test(html)) return 'installation page';
    return /Error displaying the error page|Could not connect to (?:MySQL|database)|database connection error/i.test(
      html,
    )
      ? 'database error'
      : undefined;
  },
};

/** Its sessions, the extensions to hold back, and the administrator; the title is in the configuration. */
function dataEdits({ prefix, tables, holdsBack, administrator, random }: DataWish): DataEdit[] {
  const edits: DataEdit[] = [];
  if (tables.includes(`${prefix}session`))
    edits.push(emptied('Sessions ended: everybody logs in again', `${prefix}session`, 'session_id'));
  if (tables.includes(`${prefix}extensions`)) {
    edits.push({
      what: 'Extensions deactivated',
      table: `${prefix}extensions`,
      key: ['extension_id'],
      where: [
        { column: 'type', is: 'plugin' },
        { column: 'enabled', is: '1' },
      ],
      change: {
        column: 'enabled',
        from: 'element',
        to: name => (holdsBack(name) ? asBytes('0') : undefined),
      },
      heldBack: name => [name],
    });
  }
  const user = (what: string, column: string, to: string, secret = false): DataEdit => ({
    what,
    table: `${prefix}users`,
    key: ['id'],
    where: [{ column: 'username', is: administrator!.login }],
    change: { column, to: () => bytesOfText(to) },
    secret,
  });
  if (administrator?.mail !== undefined)
    edits.push(user('Mail address of the administrator set', 'email', administrator.mail));
  if (administrator?.password !== undefined)
    edits.push(
      user(
        'Password of the administrator set',
        'password',
        portableHash(administrator.password, random),
        true,
      ),
    );
  return edits;
}
