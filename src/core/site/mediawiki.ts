import { addressPath, formatAddress } from '../address/address.js';
import { asBytes } from '../bytes.js';
import { type Family, movedFacts, type Wanted } from './family.js';
import { editPhpFacts, hostAndPort, type PhpNames, readPhpFacts } from './php-family.js';

/** https://www.mediawiki.org/wiki/Manual:LocalSettings.php */
const names: PhpNames = {
  name: '$wgDBname',
  user: '$wgDBuser',
  password: '$wgDBpassword',
  host: '$wgDBserver',
  prefix: '$wgDBprefix',
  server: '$wgServer',
  scriptPath: '$wgScriptPath',
  temporaryPath: '$wgUploadDirectory',
};

export const mediawiki: Family = {
  name: 'mediawiki',
  configurations: ['LocalSettings.php'],
  marks: [['includes/Defines.php', 'load.php'], ['LocalSettings.php', 'load.php'], ['includes/WebStart.php']],
  readConfiguration: source => readPhpFacts(source, names),
  editConfiguration: (source, wanted) => editPhpFacts(source, names, wanted),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  moved(facts, move) {
    const wanted: Wanted = movedFacts(facts, ['temporaryPath'], move);
    const server = facts.server?.value;
    const { oldAddress, newAddress } = move;
    const origin = (address: typeof oldAddress) => formatAddress({ ...address, segments: [] });
    if (
      server !== undefined &&
      server.replace(/^(?:https?:)?\/\//, '') === origin(oldAddress).replace(/^https?:\/\//, '')
    ) {
      const next = origin(newAddress);
      wanted.server = asBytes(server.startsWith('//') ? next.replace(/^https?:/, '') : next);
    }
    if (facts.scriptPath?.value === addressPath(oldAddress))
      wanted.scriptPath = asBytes(addressPath(newAddress));
    for (const name of ['server', 'scriptPath'] as const)
      if (wanted[name] === facts[name]?.value) delete wanted[name];
    return wanted;
  },
  prefixed: [],
  leave: [],
  without: ['cache/', 'images/thumb/', 'images/temp/', '*.log'],
  generated: [],
  landmark: /^(?:\\*\/|%2f)(?:index\.php\?title=|index\.php\/|load\.php|api\.php|resources\/|skins\/)/i,
  loginPage: 'index.php?title=Special:UserLogin',
  coreTables: ['page', 'revision', 'user'],
  troubleIn(html) {
    if (/LocalSettings\.php not found|<title>MediaWiki [\d.]+ installation/i.test(html))
      return 'installation page';
    return /Cannot access the database|Database error/i.test(html) ? 'database error' : undefined;
  },
};
