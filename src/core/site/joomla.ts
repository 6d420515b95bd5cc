import { asBytes, type ByteString } from '../bytes.js';
import { type Family, movedFacts } from './family.js';
import { editPhpFacts, hostAndPort, type PhpNames, readPhpFacts } from './php-family.js';

/** configuration.php is a class of public properties: https://docs.joomla.org/Configuration.php */
const names: PhpNames = {
  name: 'JConfig.db',
  user: 'JConfig.user',
  password: 'JConfig.password',
  host: 'JConfig.host',
  prefix: 'JConfig.dbprefix',
  siteAddress: 'JConfig.live_site',
  cookieDomain: 'JConfig.cookie_domain',
  logPath: 'JConfig.log_path',
  temporaryPath: 'JConfig.tmp_path',
};

export const joomla: Family = {
  name: 'joomla',
  configurations: ['configuration.php'],
  marks: [
    ['administrator/index.php', 'libraries/src/Version.php'],
    ['administrator/index.php', 'configuration.php'],
  ],
  readConfiguration: source => readPhpFacts(source, names),
  editConfiguration: (source, wanted) => editPhpFacts(source, names, wanted),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  moved(facts, move) {
    const wanted = movedFacts(facts, ['siteAddress', 'logPath', 'temporaryPath'], move);
    const cookie = facts.cookieDomain?.value;
    const bare = cookie?.replace(/^\./, '');
    if (bare && (move.oldAddress.host === bare || move.oldAddress.host.endsWith(`.${bare}`))) {
      wanted.cookieDomain = cookieFor(cookie!, move.newAddress.host);
    }
    return wanted;
  },
  prefixed: [],
  leave: [],
  without: ['cache/', 'administrator/cache/', 'tmp/', '*.log', 'administrator/logs/', 'logs/'],
  generated: ['media/', 'images/'],
  landmark: /^(?:\\*\/|%2f)(?:index\.php\?option=|administrator\/|media\/|components\/|images\/)/i,
  loginPage: 'administrator/',
  coreTables: ['extensions', 'users', 'usergroups'],
  troubleIn(html) {
    if (/<title>[^<]*(?:Web Installer|Installation)[^<]*<\/title>/i.test(html)) return 'installation page';
    return /Error displaying the error page|Could not connect to (?:MySQL|database)|database connection error/i.test(
      html,
    )
      ? 'database error'
      : undefined;
  },
};

/** A cookie domain for a host, with a dot before it where the old one had one. */
function cookieFor(old: ByteString, host: string): ByteString {
  return asBytes(old.startsWith('.') ? `.${host}` : host);
}
