import type { Address } from '../../address/address.js';
import { asBytes, type ByteString } from '../../bytes.js';
import {
  type Fact,
  type FactName,
  type Facts,
  movedCookieDomain,
  movedFacts,
  type SiteMove,
  said,
  type Wanted,
} from '../configuration/source/facts.js';
import { editPhpFacts, type PhpDialect, readPhpFacts } from '../configuration/source/php-facts.js';
import { folderOf, valueOfPath } from '../configuration/source/php-paths.js';
import { dataEdits } from '../data/drupal-data.js';
import type { Family } from './family.js';

/** The databases array of settings.php: https://www.drupal.org/docs/drupal-apis/database-api/database-configuration */
const database = '$databases.default.default';
const dialect: PhpDialect = {
  names: {
    name: `${database}.database`,
    user: `${database}.username`,
    password: `${database}.password`,
    host: `${database}.host`,
    port: `${database}.port`,
    prefix: `${database}.prefix|${database}.prefix.default`,
    siteAddress: '$base_url',
    cookieDomain: '$cookie_domain',
    temporaryPath: '$settings.file_temp_path|$conf.file_temporary_path',
    privatePath: '$settings.file_private_path|$conf.file_private_path',
    uploadPath: '$settings.file_public_path|$conf.file_public_path',
    logPath: '$settings.config_sync_directory',
    trustedHosts: '$settings.trusted_host_patterns.*',
    title: '$config.system.site.name|$conf.site_name',
    tagline: '$config.system.site.slogan|$conf.site_slogan',
    errorDetails: '$config.system.logging.error_level|$conf.error_level',
    'secretKey.0': '$settings.hash_salt|$drupal_hash_salt',
  },
  ofProgram: /^(?:web\/)?(?:core|modules)\//,
  givens: main => ({
    $app_root: valueOfPath(main.startsWith('web/') ? 'web' : ''),
    $site_path: asBytes(folderOf(main).replace(/^web\//, '')),
  }),
};

export const drupal: Family = {
  name: 'drupal',
  configurations: [
    'sites/default/settings.php',
    'web/sites/default/settings.php',
    'sites/*/settings.php',
    'web/sites/*/settings.php',
  ],
  configurationFor: siteFolderFor,
  configurationLike: /(?:^|\/)sites\/[^/]+\/settings[\w.~-]*$/,
  marks: [
    ['core/lib/Drupal.php', 'sites/default/settings.php'],
    ['core/lib/Drupal.php'],
    ['web/core/lib/Drupal.php'],
    ['includes/bootstrap.inc', 'sites/default/settings.php'],
  ],
  readConfiguration: files => readPhpFacts(files, dialect),
  editConfiguration: (files, wanted) => editPhpFacts(files, dialect, wanted),
  databaseServer: (host, port, facts) => ({
    host: asBytes(host),
    ...(facts.port || (port !== undefined && port !== 3306) ? { port: asBytes(String(port ?? 3306)) } : {}),
  }),
  moved,
  quiet: [{ fact: 'errorDetails', off: asBytes('hide') }],
  robots: undefined,
  maintenance: undefined,
  entryPoints: ['index.php', 'update.php'],
  versionFiles: ['core/lib/Drupal.php', 'web/core/lib/Drupal.php', 'includes/bootstrap.inc'],
  versionIn(source) {
    const file = source('core/lib/Drupal.php') || source('web/core/lib/Drupal.php');
    const early = source('includes/bootstrap.inc');
    return {
      version: said(file, /const VERSION = '([^']+)'/) ?? said(early, /define\('VERSION', '([^']+)'/),
      php:
        said(file, /const MINIMUM_PHP = '([^']+)'/) ?? said(early, /define\('DRUPAL_MINIMUM_PHP', '([^']+)'/),
    };
  },
  extensions: ['pdo_mysql', 'dom', 'gd', 'json', 'session', 'tokenizer'],
  without: ['sites/default/files/css/', 'sites/default/files/js/', 'sites/default/files/php/', '*.log'],
  generated: ['sites/default/files/'],
  landmark: /^(?:\\*\/|%2f)(?:sites\/default\/files|core\/(?:misc|themes)|node\/\d|user\/login)/i,
  loginPage: 'user/login',
  web: {
    search: '/search/node?keys=',
    feeds: ['/rss.xml'],
    sitemaps: ['/sitemap.xml'],
    administration: '/admin',
    notRead: ['/admin', '/user/', '/core/', '/batch'],
  },
  coreTables: ['config', 'users', 'node'],
  sets: ['title', 'tagline', 'administrator'],
  dataEdits,
  troubleIn(html) {
    if (/<title>[^<]*(?:Choose language|Select an installation profile)[^<]*<\/title>/i.test(html))
      return 'installation page';
    return /The website encountered an unexpected error|PDOException/i.test(html)
      ? 'database error'
      : undefined;
  },
};

/**
 * The folder of a site among several in one tree: the most particular of port, host and path counts.
 * https://api.drupal.org/api/drupal/core%21lib%21Drupal%21Core%21DrupalKernel.php/function/DrupalKernel%3A%3AfindSitePath
 */
function siteFolderFor(there: readonly string[], address: Address): string {
  const server = [...(address.port === undefined ? [] : [String(address.port)]), ...address.host.split('.')];
  const folders: string[] = [];
  for (let path = address.segments.length; path >= 0; path--) {
    for (let first = 0; first < server.length; first++) {
      folders.push([...server.slice(first), ...address.segments.slice(0, path)].join('.'));
    }
  }
  for (const folder of [...folders, 'default']) {
    const found = there.find(path => path.endsWith(`sites/${folder}/settings.php`));
    if (found) return found;
  }
  return there[0]!;
}

function moved(facts: Facts, move: SiteMove): Wanted {
  const paths = ['siteAddress', 'temporaryPath', 'privatePath', 'uploadPath', 'logPath'] as const;
  const wanted: Wanted = movedFacts(facts, paths, move);
  const cookie = movedCookieDomain(facts, move);
  if (cookie !== undefined) wanted.cookieDomain = cookie;
  for (const [name, fact] of Object.entries(facts) as [FactName, Fact][]) {
    if (!name.startsWith('trustedHosts.') || fact.value === undefined) continue;
    const next = trustedAs(fact.value, move);
    if (next !== fact.value) wanted[name] = next;
  }
  return wanted;
}

/** A pattern of trusted hosts with the new host in place of the old one, each written as a pattern. */
function trustedAs(pattern: ByteString, { oldAddress, newAddress }: SiteMove): ByteString {
  const written = (host: string) => host.replaceAll('.', '\\.');
  const old = oldAddress.host.replaceAll('.', '\\\\?\\.').replaceAll('-', '\\\\?-');
  return asBytes(
    pattern.replace(new RegExp(`(?<![\\w-])${old}(?![\\w-])`, 'gi'), () => written(newAddress.host)),
  );
}

/** Whether a site that lists trusted hosts answers to a host; true where none are listed. */
export function trustsHost(patterns: readonly string[], host: string): boolean {
  return (
    patterns.length === 0 ||
    patterns.some(pattern => {
      try {
        return new RegExp(pattern, 'i').test(host);
      } catch {
        return false;
      }
    })
  );
}
