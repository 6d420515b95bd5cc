import { asBytes } from '../../bytes.js';
import { type DotenvNames, editDotenvFacts, readDotenvFacts } from '../configuration/source/dotenv.js';
import type { ConfigurationFiles } from '../configuration/source/facts.js';
import { movedCookieDomain, movedFacts } from '../configuration/source/facts.js';
import { credentialsDialect } from '../configuration/source/php-credentials.js';
import { editPhpFacts, readPhpFacts } from '../configuration/source/php-facts.js';
import type { Family } from './family.js';

/** The keys that applications commonly use in a `.env` file. */
const names: DotenvNames = {
  name: ['DB_DATABASE', 'DB_NAME', 'MYSQL_DATABASE', 'DATABASE_NAME'],
  user: ['DB_USERNAME', 'DB_USER', 'MYSQL_USER', 'DATABASE_USER'],
  password: ['DB_PASSWORD', 'DB_PASS', 'MYSQL_PASSWORD', 'DATABASE_PASSWORD'],
  host: ['DB_HOST', 'MYSQL_HOST', 'DATABASE_HOST'],
  port: ['DB_PORT', 'MYSQL_PORT', 'DATABASE_PORT'],
  prefix: ['DB_PREFIX', 'DB_TABLE_PREFIX'],
  siteAddress: ['APP_URL', 'SITE_URL', 'BASE_URL'],
  home: ['HOME_URL', 'PUBLIC_URL'],
  debug: ['APP_DEBUG'],
  cookieDomain: ['SESSION_DOMAIN', 'COOKIE_DOMAIN'],
};

const isPhp = ({ main }: ConfigurationFiles) => main.endsWith('.php');

/** Any site: nothing is known of it but a `.env` file or a PHP file with credentials, and what the sheet says. */
export const plain: Family = {
  name: 'plain',
  configurations: ['.env', 'config.php', 'config/config.php', 'config/database.php', 'app/config.php'],
  configurationLike: /(?:^|\/)(?:\.env[\w.~-]*|config\.php[\w.~-]*)$/,
  marks: [],
  readConfiguration(files) {
    if (!isPhp(files)) return readDotenvFacts(files, names);
    // A file of that name may be anything.
    return readPhpFacts(files, credentialsDialect(files)) ?? { facts: {}, wanted: [], unread: [] };
  },
  editConfiguration: (files, wanted) =>
    isPhp(files)
      ? editPhpFacts(files, credentialsDialect(files), wanted)
      : editDotenvFacts(files, names, wanted),
  databaseServer: (host, port, facts) => ({
    host: asBytes(host),
    ...(facts.port || (port !== undefined && port !== 3306) ? { port: asBytes(String(port ?? 3306)) } : {}),
  }),
  moved(facts, move) {
    const wanted = movedFacts(facts, ['siteAddress', 'home'], move);
    const cookie = movedCookieDomain(facts, move);
    return cookie === undefined ? wanted : { ...wanted, cookieDomain: cookie };
  },
  quiet: [{ fact: 'debug', off: asBytes('false') }],
  robots: undefined,
  maintenance: undefined,
  entryPoints: ['index.php'],
  versionFiles: [],
  versionIn: () => ({}),
  extensions: [],
  without: ['*.log'],
  generated: [],
  addressed: [
    ...['config', '_config', 'site', 'settings', 'config/*', '*/config/*'].flatMap(name =>
      ['y*ml', 'json', 'toml', 'ini', 'neon'].map(kind => `/${name}.${kind}`),
    ),
  ],
  landmark: undefined,
  loginPage: undefined,
  web: { feeds: ['/feed.xml', '/rss.xml', '/atom.xml'], sitemaps: ['/sitemap.xml'] },
  coreTables: [],
  sets: [],
  troubleIn: () => undefined,
};
