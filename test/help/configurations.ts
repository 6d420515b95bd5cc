import { type ByteString, bytesOfText } from '../../src/core/bytes.js';
import type { ConfigurationFiles, FactName } from '../../src/core/site/configuration/source/facts.js';

/** A configuration in one of the styles in which they are found, what it says, and what in it can be edited. */
interface Configuration {
  readonly family: string;
  readonly style: string;
  readonly source: ByteString;
  /** Where it lies, and the files that it includes. */
  readonly main: string;
  readonly more?: Readonly<Record<string, ByteString>>;
  readonly facts: Partial<Record<FactName, string | undefined>>;
  readonly editable: readonly FactName[];
  /** PHP expressions that give, when the file was loaded, what each editable fact is worth. */
  readonly asked: readonly string[];
}

const database = ['name', 'user', 'password'] as const;
const constants = ['DB_NAME', 'DB_USER', 'DB_PASSWORD'];

export const configurations: readonly Configuration[] = [
  {
    family: 'wordpress',
    main: 'wp-config.php',
    style: 'comments, both quotes, guards, heredocs and second definitions',
    source: bytesOfText(`<?php
// define( 'DB_NAME', 'comment' );
/* define( 'DB_NAME', 'block' ); */
# define( 'DB_NAME', 'hash' );
define( 'DB_NAME', "cl\\x75b_" . 'ol\\'d' ); // kept
defined( 'DB_USER' ) || define( 'DB_USER', 'é"user' );\r
if ( ! defined( 'DB_PASSWORD' ) ) {
\tdefine( 'DB_PASSWORD', <<<'EOT'
p'w\\d$
EOT
);
}
@define( 'DB_NAME', 'second' );
define( 'DB_HOST', getenv( 'HOST' ) ?: 'localhost' );
function never() { define( 'DB_CHARSET', 'no' ); }
$table_prefix = "sr4_";
$unused = "define( 'WP_HOME', 'no' )";
`),
    facts: { name: "club_ol'd", user: 'é"user', password: "p'w\\d$", host: undefined, prefix: 'sr4_' },
    editable: [...database, 'prefix'],
    asked: [...constants, '$table_prefix'],
  },
  {
    family: 'wordpress',
    main: 'wp-config.php',
    style: 'CRLF, upper-case DEFINE and a heredoc',
    source: bytesOfText(
      "<?php\r\nDEFINE('DB_NAME', <<<X\r\nclub\r\nX\r\n);\r\n\\define(\"DB_USER\", \"u\\u{e9}\\\"\\$x\");\r\ndefine('DB_PASSWORD',('p'));\r\n$table_prefix='a_';$table_prefix  =  'wp_' ;\r\n?>\r\n",
    ),
    facts: { name: 'club', user: 'ué"$x', password: 'p', prefix: 'wp_' },
    editable: [...database, 'prefix'],
    asked: [...constants, '$table_prefix'],
  },
  {
    family: 'joomla',
    main: 'configuration.php',
    style: 'a class of public properties',
    source: bytesOfText(`<?php
class JConfig {
\tpublic $offline = false; // $db = 'no';
\tpublic $host = 'localhost';
\tpublic $user = "us\\"er";
\tpublic $password = 'p\\\\w\\'';
\tpublic $db = 'club';
\tvar $dbprefix = 'jos_';
\tpublic $live_site = '';
\tpublic $sitename = 'Rowing';
\tpublic $MetaDesc = "On the \\"creek\\"";
\tpublic $log_path = '/home/club/logs';
\tpublic $tmp_path = '/home/club/tmp';
\tpublic function db() { $this->db = 'no'; }
}
`),
    facts: {
      name: 'club',
      user: 'us"er',
      password: "p\\w'",
      host: 'localhost',
      prefix: 'jos_',
      siteAddress: '',
      title: 'Rowing',
      tagline: 'On the "creek"',
      offline: '',
      logPath: '/home/club/logs',
      temporaryPath: '/home/club/tmp',
    },
    editable: [...database, 'prefix', 'siteAddress', 'title', 'tagline'],
    asked: ['db', 'user', 'password', 'dbprefix', 'live_site', 'sitename', 'MetaDesc'].map(
      name => `(new JConfig)->${name}`,
    ),
  },
  {
    family: 'drupal',
    main: 'sites/default/settings.php',
    style: 'the databases array over several lines',
    source: bytesOfText(`<?php
$databases = [];
/* $databases['default']['default'] = ['database' => 'example']; */
$databases['default']['default'] = array (
  'database' => 'club', // here
  'username' => "u",
  'password' => 'p' . "\\n" . '#',
  'prefix' => array('default' => 'dr_', 'users' => 'shared_'),
  'host' => 'localhost',
  'port' => '3306',
  'driver' => 'mysql',
);
$settings['hash_salt'] = 'made up';
$base_url = 'https://club.example/site';
if (file_exists($app_root ?? '' . '/settings.local.php')) { include 'nothing.php'; }
`),
    facts: {
      name: 'club',
      user: 'u',
      password: 'p\n#',
      prefix: 'dr_',
      host: 'localhost',
      port: '3306',
      siteAddress: 'https://club.example/site',
      'secretKey.0': 'made up',
    },
    editable: [...database, 'prefix', 'siteAddress'],
    asked: [
      ...['database', 'username', 'password'].map(key => `$databases['default']['default']['${key}']`),
      "$databases['default']['default']['prefix']['default']",
      '$base_url',
    ],
  },
  {
    family: 'drupal',
    main: 'sites/default/settings.php',
    style: 'element by element',
    source: bytesOfText(`<?php
$databases['default']['default']['database'] = 'first';
$databases['default']['default']['database'] = 'club';
$databases['default']['default']['username'] = 'u';
$databases["default"]['default']["password"] = "p\\t";
$databases['replica']['default']['database'] = 'other';
`),
    facts: { name: 'club', user: 'u', password: 'p\t' },
    editable: database,
    asked: ['database', 'username', 'password'].map(key => `$databases['default']['default']['${key}']`),
  },
  {
    family: 'mediawiki',
    main: 'LocalSettings.php',
    style: 'global variables',
    source: bytesOfText(`<?php
# This file was automatically generated by an installer.
# $wgDBname = "no";
# Protect against web entry
if ( !defined( 'MEDIAWIKI' ) ) {
\texit;
}
require_once "$IP/includes/DefaultSettings.php";
$wgSitename = "Saltmarsh";
$wgScriptPath = "/site";
$wgServer = "https://club.example";
$wgResourceBasePath = $wgScriptPath;
$wgDBserver = "localhost";
$wgDBname = "wiki";
$wgDBuser = 'u';
$wgDBpassword = "p\\$";
$wgDBprefix = "";
$wgLogos = [ '1x' => "$wgResourceBasePath/resources/assets/wiki.png" ];
## Shared database table
$wgSharedTables[] = "actor";
$wgSecretKey = "0f1e";
$wgUploadDirectory = "$IP/images";
wfLoadSkin( 'Vector' );
`),
    facts: {
      name: 'wiki',
      user: 'u',
      password: 'p$',
      host: 'localhost',
      prefix: '',
      server: 'https://club.example',
      scriptPath: '/site',
      uploadPath: undefined,
      title: 'Saltmarsh',
      'secretKey.0': '0f1e',
    },
    editable: [...database, 'prefix', 'server', 'scriptPath', 'title'],
    asked: [
      '$wgDBname',
      '$wgDBuser',
      '$wgDBpassword',
      '$wgDBprefix',
      '$wgServer',
      '$wgScriptPath',
      '$wgSitename',
    ],
  },
  {
    family: 'wordpress',
    main: 'wp-config.php',
    style: 'split over included files, with values made of other values',
    source: bytesOfText(`<?php
if ( file_exists( __DIR__ . '/config/missing.php' ) ) { require __DIR__ . '/config/missing.php'; }
$where = 'config';
require_once dirname( __FILE__ ) . "/$where/database.php";
require_once __DIR__ . '/config/database.php';
file_exists( ABSPATH . 'config/keys.php' ) && include ABSPATH . 'config/keys.php';
define( 'WP_HOME', 'https://' . HOST . '/site' );
define( 'WP_SITEURL', WP_HOME . '/wp' );
define( 'WP_TEMP_DIR', __DIR__ . '/tmp' );
define( 'WP_DEBUG', true );
return;
define( 'DB_CHARSET', 'never' );
`),
    more: {
      'config/missing.php': undefined as unknown as ByteString,
      'config/database.php': bytesOfText(
        "<?php\ndefine('HOST', 'club.example');\ndefine('DB_NAME', 'club');\ndefine('DB_USER', 'u');\r\n/* é */ define('DB_PASSWORD', 'p');\n$table_prefix = 'a_';\n$table_prefix .= 'b_';\nreturn;\n",
      ),
      'config/keys.php': bytesOfText("<?php define('AUTH_KEY', 'k1'); define('NONCE_SALT', 'k2');"),
    },
    facts: {
      name: 'club',
      user: 'u',
      password: 'p',
      prefix: undefined,
      home: 'https://club.example/site',
      siteAddress: 'https://club.example/site/wp',
      temporaryPath: undefined,
      debug: '1',
      'secretKey.0': 'k1',
      'secretKey.7': 'k2',
    },
    editable: [...database, 'home', 'siteAddress', 'secretKey.0'],
    asked: [...constants, 'WP_HOME', 'WP_SITEURL', 'AUTH_KEY'],
  },
  {
    family: 'wordpress',
    main: '../wp-config.php',
    style: 'one folder above, for a network of sites',
    source: bytesOfText(`<?php
define( 'DB_NAME', 'net' ); define( 'DB_USER', 'u' ); define( 'DB_PASSWORD', 'p' );
include __DIR__ . '/shared.php';
define( 'MULTISITE', true );
define( 'SUBDOMAIN_INSTALL', false );
define( 'DOMAIN_CURRENT_SITE', 'club.example' );
define( 'PATH_CURRENT_SITE', '/site/' );
`),
    more: { '../shared.php': bytesOfText("<?php $GLOBALS['table_prefix'] = 'net_';\n") },
    facts: {
      name: 'net',
      user: 'u',
      password: 'p',
      prefix: 'net_',
      network: '1',
      networkHost: 'club.example',
      networkPath: '/site/',
    },
    editable: [...database, 'prefix', 'networkHost', 'networkPath'],
    asked: [...constants, '$table_prefix', 'DOMAIN_CURRENT_SITE', 'PATH_CURRENT_SITE'],
  },
  {
    family: 'drupal',
    main: 'sites/club.example/settings.php',
    style: 'a local include, trusted hosts and paths',
    source: bytesOfText(`<?php
$databases = [];
$settings['trusted_host_patterns'] = ['^no$'];
$settings['file_private_path'] = '/home/old/private';
$settings['hash_salt'] = 'salt';
if (isset($app_root) && file_exists($app_root . '/' . $site_path . '/settings.local.php')) {
  include $app_root . '/' . $site_path . '/settings.local.php';
}
`),
    more: {
      'sites/club.example/settings.local.php': bytesOfText(`<?php
$databases['default']['default'] = ['database' => 'd', 'username' => 'u', 'password' => 'p', 'prefix' => '',
  'port' => 3306];
$settings['trusted_host_patterns'] = ['^club\\.example$'];
$settings['trusted_host_patterns'][] = '^.+\\.club\\.example$';
`),
    },
    facts: {
      name: 'd',
      user: 'u',
      password: 'p',
      prefix: '',
      port: '3306',
      privatePath: '/home/old/private',
      'secretKey.0': 'salt',
      'trustedHosts.0': '^club\\.example$',
      'trustedHosts.1': '^.+\\.club\\.example$',
    },
    editable: [...database, 'prefix', 'privatePath', 'trustedHosts.1'],
    asked: [
      ...['database', 'username', 'password', 'prefix'].map(
        key => `$databases['default']['default']['${key}']`,
      ),
      "$settings['file_private_path']",
      "$settings['trusted_host_patterns'][1]",
    ],
  },
  {
    family: 'plain',
    main: 'config.php',
    style: 'an array that is returned',
    source: bytesOfText(`<?php
// 'password' => 'no',
$secret = getenv('NOTHING') ?: 'k';
return [
    'debug' => false,
    'base_url' => 'https://club.example/site',
    'mail' => ['user' => 'postman', 'password' => 'no'],
    'db' => [
        'driver' => 'mysql', 'host' => "localhost",
        'username' => 'u', 'password' => 'p', 'database' => 'club', 'prefix' => 'a_',
    ],
];
`),
    facts: {
      name: 'club',
      user: 'u',
      password: 'p',
      host: 'localhost',
      prefix: 'a_',
      siteAddress: 'https://club.example/site',
    },
    editable: [...database, 'prefix'],
    asked: ['database', 'username', 'password', 'prefix'].map(key => `$returned['db']['${key}']`),
  },
  {
    family: 'plain',
    main: 'config.php',
    style: 'variables beside one another',
    source: bytesOfText(
      "<?php\n$site_url = 'https://club.example/site';\n$db_user = 'u';\n$db_pass = 'p';\n$db_name = 'club';\n",
    ),
    facts: { name: 'club', user: 'u', password: 'p', siteAddress: 'https://club.example/site' },
    editable: [...database],
    asked: ['$db_name', '$db_user', '$db_pass'],
  },
];

/** The files of a configuration, as a family reads them; what is not among them is not there. */
export function filesOf({ main, source, more }: Configuration): ConfigurationFiles {
  const absent = ['.env', '../.env', 'sites/default/nothing.php'].map(path => [path, undefined] as const);
  return { main, sources: new Map([...absent, [main, source], ...Object.entries(more ?? {})]) };
}

/** `.env` files, which no PHP reads. */
export const dotenvs = [
  {
    source: bytesOfText(
      '# DB_NAME=no\nAPP_URL=https://old.example/site # here\r\nexport DB_DATABASE = "cl\\"ub"\nDB_USER=\'u$x\'\nDB_PASSWORD=${SECRET}\nDB_HOST=localhost\nDB_HOST=db\nOTHER="a=b"\n',
    ),
    facts: {
      name: 'cl"ub',
      user: 'u$x',
      password: undefined,
      host: 'db',
      siteAddress: 'https://old.example/site',
    },
  },
];
