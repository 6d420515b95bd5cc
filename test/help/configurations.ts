import { type ByteString, bytesOfText } from '../../src/core/bytes.js';
import type { FactName } from '../../src/core/site/family.js';

/** A configuration in one of the styles in which they are found, what it says, and what in it can be edited. */
interface Configuration {
  readonly family: string;
  readonly style: string;
  readonly source: ByteString;
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
      logPath: '/home/club/logs',
      temporaryPath: '/home/club/tmp',
    },
    editable: [...database, 'prefix', 'siteAddress'],
    asked: ['db', 'user', 'password', 'dbprefix', 'live_site'].map(name => `(new JConfig)->${name}`),
  },
  {
    family: 'drupal',
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
    style: 'global variables',
    source: bytesOfText(`<?php
# $wgDBname = "no";
$wgSitename = "Saltmarsh";
$wgScriptPath = "/site";
$wgServer = "https://club.example";
$wgResourceBasePath = $wgScriptPath;
$wgDBserver = "localhost";
$wgDBname = "wiki";
$wgDBuser = 'u';
$wgDBpassword = "p\\$";
$wgDBprefix = "";
`),
    facts: {
      name: 'wiki',
      user: 'u',
      password: 'p$',
      host: 'localhost',
      prefix: '',
      server: 'https://club.example',
      scriptPath: '/site',
    },
    editable: [...database, 'prefix', 'server', 'scriptPath'],
    asked: ['$wgDBname', '$wgDBuser', '$wgDBpassword', '$wgDBprefix', '$wgServer', '$wgScriptPath'],
  },
];

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
