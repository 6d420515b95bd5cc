import { asBytes } from '../../bytes.js';
import { type DotenvNames, editDotenvFacts, readDotenvFacts } from '../configuration/source/dotenv.js';
import { movedCookieDomain, movedFacts } from '../configuration/source/facts.js';
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

/** Any site: nothing is known of it but a `.env` file, where it has one, and what the sheet says. */
export const plain: Family = {
  name: 'plain',
  configurations: ['.env'],
  configurationLike: /(?:^|\/)\.env[\w.~-]*$/,
  marks: [],
  readConfiguration: files => readDotenvFacts(files, names),
  editConfiguration: (files, wanted) => editDotenvFacts(files, names, wanted),
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
  landmark: undefined,
  loginPage: undefined,
  coreTables: [],
  sets: [],
  troubleIn: () => undefined,
};
