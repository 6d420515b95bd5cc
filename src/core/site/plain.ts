import { asBytes } from '../bytes.js';
import { type DotenvNames, editDotenvFacts, readDotenvFacts } from './dotenv-source.js';
import { type Family, movedFacts } from './family.js';

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
};

/** Any site: nothing is known of it but a `.env` file, where it has one, and what the sheet says. */
export const plain: Family = {
  name: 'plain',
  configurations: ['.env'],
  marks: [],
  readConfiguration: source => readDotenvFacts(source, names),
  editConfiguration: (source, wanted) => editDotenvFacts(source, names, wanted),
  databaseServer: (host, port, facts) => ({
    host: asBytes(host),
    ...(facts.port || (port !== undefined && port !== 3306) ? { port: asBytes(String(port ?? 3306)) } : {}),
  }),
  moved: (facts, move) => movedFacts(facts, ['siteAddress', 'home'], move),
  prefixed: [],
  leave: [],
  without: ['*.log'],
  generated: [],
  landmark: undefined,
  loginPage: undefined,
  coreTables: [],
  troubleIn: () => undefined,
};
