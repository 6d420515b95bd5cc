import { addressPath, formatAddress } from '../../address/address.js';
import { asBytes } from '../../bytes.js';
import {
  movedCookieDomain,
  movedFacts,
  movedPath,
  said,
  type Wanted,
} from '../configuration/source/facts.js';
import {
  editPhpFacts,
  hostAndPort,
  type PhpDialect,
  readPhpFacts,
} from '../configuration/source/php-facts.js';
import { valueOfPath } from '../configuration/source/php-paths.js';
import { dataEdits } from '../data/mediawiki-data.js';
import type { Family } from './family.js';

/** https://www.mediawiki.org/wiki/Manual:LocalSettings.php */
const dialect: PhpDialect = {
  names: {
    name: '$wgDBname',
    user: '$wgDBuser',
    password: '$wgDBpassword',
    host: '$wgDBserver',
    prefix: '$wgDBprefix',
    server: '$wgServer',
    scriptPath: '$wgScriptPath',
    articlePath: '$wgArticlePath',
    uploadAddress: '$wgUploadPath',
    cookiePath: '$wgCookiePath',
    cookieDomain: '$wgCookieDomain',
    uploadPath: '$wgUploadDirectory',
    temporaryPath: '$wgTmpDirectory',
    cachePath: '$wgCacheDirectory',
    logPath: '$wgDebugLogFile',
    debug: '$wgShowExceptionDetails',
    errorDetails: '$wgShowSQLErrors',
    robots: '$wgDefaultRobotPolicy',
    offline: '$wgReadOnly',
    title: '$wgSitename',
    'secretKey.0': '$wgSecretKey',
  },
  ofProgram: /^(?:includes|extensions|skins|resources)\//,
  givens: () => ({ $IP: valueOfPath('') }),
};

const pathFacts = ['scriptPath', 'articlePath', 'uploadAddress', 'cookiePath'] as const;

export const mediawiki: Family = {
  name: 'mediawiki',
  configurations: ['LocalSettings.php'],
  configurationLike: /(?:^|\/)LocalSettings[\w.~-]*$/,
  marks: [['includes/Defines.php', 'load.php'], ['LocalSettings.php', 'load.php'], ['includes/WebStart.php']],
  readConfiguration: files => readPhpFacts(files, dialect),
  editConfiguration: (files, wanted) => editPhpFacts(files, dialect, wanted),
  databaseServer: (host, port) => ({ host: hostAndPort(host, port) }),
  quiet: [
    { fact: 'debug', off: asBytes('') },
    { fact: 'errorDetails', off: asBytes('') },
  ],
  robots: { hide: asBytes('noindex,nofollow'), show: asBytes('index,follow') },
  maintenance: {
    fact: 'offline',
    on: asBytes('This wiki is being moved to another host.'),
    off: asBytes(''),
  },
  entryPoints: ['index.php', 'api.php', 'load.php', 'rest.php', 'img_auth.php', 'thumb.php'],
  versionFiles: ['includes/Defines.php', 'includes/PHPVersionCheck.php', 'composer.json'],
  versionIn: source => ({
    version: said(source('includes/Defines.php'), /define\(\s*'MW_VERSION',\s*'([^']+)'/),
    php:
      said(source('composer.json'), /"php":\s*">=\s*([\d.]+)/) ??
      said(source('includes/PHPVersionCheck.php'), /MIN_PHP_VERSION\s*=\s*'([^']+)'/),
  }),
  extensions: ['mysqli', 'mbstring', 'xml', 'json', 'ctype', 'iconv'],
  moved(facts, move) {
    const wanted: Wanted = movedFacts(facts, ['temporaryPath', 'uploadPath', 'cachePath', 'logPath'], move);
    const cookie = movedCookieDomain(facts, move);
    if (cookie !== undefined) wanted.cookieDomain = cookie;
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
    for (const name of pathFacts) {
      const next = movedPath(facts[name]?.value, move);
      if (next !== undefined && wanted[name] === undefined) wanted[name] = next;
    }
    Object.assign(wanted, movedFacts(facts, ['uploadAddress'], move));
    for (const name of ['server', 'scriptPath'] as const)
      if (wanted[name] === facts[name]?.value) delete wanted[name];
    return wanted;
  },
  without: ['cache/', 'images/thumb/', 'images/temp/', '*.log'],
  generated: [],
  landmark: /^(?:\\*\/|%2f)(?:index\.php\?title=|index\.php\/|load\.php|api\.php|resources\/|skins\/)/i,
  loginPage: 'index.php?title=Special:UserLogin',
  web: {
    search: '/index.php?title=Special:Search&fulltext=1&search=',
    interface: '/api.php?action=query&meta=siteinfo&format=json',
    feeds: [],
    sitemaps: ['/sitemap.xml', '/sitemap/sitemap-index.xml'],
    administration: '/index.php?title=Special:Preferences',
    notRead: ['/api.php', '/load.php', '/rest.php'],
  },
  coreTables: ['page', 'revision', 'user'],
  sets: ['title', 'administrator'],
  dataEdits,
  troubleIn(html) {
    if (/LocalSettings\.php not found|<title>MediaWiki [\d.]+ installation/i.test(html))
      return 'installation page';
    return /Cannot access the database|Database error/i.test(html) ? 'database error' : undefined;
  },
};
