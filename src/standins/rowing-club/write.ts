import { mkdir, writeFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { bytesOfText } from '../../core/bytes.js';
import { phpLiteral } from '../../core/site/configuration/source/php-strings.js';
import { escapeForLiteral } from '../../core/sql/literal.js';
import { type ClubPlace, type ClubRow, type ClubTables, clubTables, slugOf } from './content.js';
import { drawWater } from './pictures.js';
import { tableColumns } from './tables.js';
import { boats } from './words.js';

/** How the club's site reaches its database. */
export interface ClubDatabase {
  readonly name: string;
  readonly user: string;
  readonly password: string;
  readonly host: string;
}

/** Writes the club's dump, in the dialect that the database's own dump program writes, packed with gzip. */
export async function writeClubDump(file: string, place: ClubPlace): Promise<void> {
  const tables = clubTables(place);
  const dump = [
    '-- MariaDB dump 10.19  Distrib 10.11.6-MariaDB, for debian-linux-gnu (x86_64)\n--\n-- Host: localhost    Database: club_old\n-- ------------------------------------------------------\n-- Server version\t10.11.6-MariaDB-0+deb12u1\n',
    '/*!40101 SET NAMES utf8mb4 */;\n/*!40014 SET @OLD_FOREIGN_KEY_CHECKS=@@FOREIGN_KEY_CHECKS, FOREIGN_KEY_CHECKS=0 */;\n',
    ...Object.keys(tables).map(name => tableDump(place.prefix + name, name, tables)),
    '/*!40014 SET FOREIGN_KEY_CHECKS=@OLD_FOREIGN_KEY_CHECKS */;\n-- Dump completed on 2026-03-01  3:14:15\n',
  ].join('\n');
  await mkdir(dirname(file), { recursive: true });
  await writeFile(file, gzipSync(Buffer.from(dump, 'latin1')));
}

function tableDump(table: string, name: string, tables: ClubTables): string {
  const columns = tableColumns[name]!.map(column => column.split(' ') as [string, ...string[]]);
  const shape = columns.map(([column, ...type]) => `  \`${column}\` ${type.join(' ')} NOT NULL`);
  const key = `  PRIMARY KEY (\`${columns[0]![0]}\`${name === 'term_relationships' ? ',`term_taxonomy_id`' : ''})`;
  const rows = tables[name]!.map(
    row => `(${columns.map(([column, type]) => cellOf(row, column, type!)).join(',')})`,
  );
  return [
    `--\n-- Table structure for table \`${table}\`\n--\n`,
    `DROP TABLE IF EXISTS \`${table}\`;`,
    `CREATE TABLE \`${table}\` (\n${[...shape, key].join(',\n')}\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;\n`,
    `LOCK TABLES \`${table}\` WRITE;\n/*!40000 ALTER TABLE \`${table}\` DISABLE KEYS */;`,
    ...(rows.length > 0 ? [`INSERT INTO \`${table}\` VALUES\n${rows.join(',\n')};`] : []),
    `/*!40000 ALTER TABLE \`${table}\` ENABLE KEYS */;\nUNLOCK TABLES;\n`,
  ].join('\n');
}

function cellOf(row: ClubRow, column: string, type: string): string {
  const value = row[column];
  if (/^(?:big)?int/.test(type)) return String(value ?? 0);
  if (value === undefined && type === 'datetime') return "'2025-01-01 00:00:00'";
  return `'${escapeForLiteral(bytesOfText(String(value ?? '')), { backslash: true })}'`;
}

/** Writes the club's folder as its web server has it: configuration, program, theme, uploads and caches. */
export async function writeClubFiles(
  folder: string,
  place: ClubPlace,
  database: ClubDatabase,
): Promise<void> {
  const put = async (path: string, content: string | Buffer) => {
    await mkdir(dirname(join(folder, path)), { recursive: true });
    await writeFile(join(folder, path), content);
  };
  const path = new URL(place.address).pathname;
  await put('wp-config.php', configuration(place, database));
  await put('index.php', "<?php\nrequire __DIR__ . '/wp-blog-header.php';\n");
  await put('wp-load.php', "<?php\nrequire_once __DIR__ . '/wp-config.php';\n");
  await put('wp-login.php', '<?php\n// The login page of the stand-in is drawn by its server.\n');
  await put(
    'wp-includes/version.php',
    "<?php\n$wp_version = '6.4.3';\n$required_php_version = '7.0.0';\n$required_mysql_version = '5.0';\n",
  );
  await put(
    '.htaccess',
    `# BEGIN permalinks\n<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteBase ${path}/\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . ${path}/index.php [L]\n</IfModule>\n# END permalinks\n`,
  );
  await put('robots.txt', 'User-agent: *\nDisallow: /wp-admin/\n');
  await put('wp-content/themes/creek/style.css', '/*\nTheme Name: Creek\n*/\n' + styles);
  await put('wp-content/themes/creek/functions.php', "<?php\nadd_theme_support( 'custom-logo' );\n");
  for (let n = 0; n < boats.length; n++) {
    await put(
      `wp-content/uploads/2025/0${1 + (n % 6)}/${slugOf(boats[n]![0])}.png`,
      drawWater(640, 360, n / boats.length),
    );
  }
  await put(
    'wp-content/uploads/creek/generated.css',
    `@import url("${place.address}/wp-content/themes/creek/style.css");\nheader{background:url(${place.address}/wp-content/uploads/2025/01/curlew.png)}\n`,
  );
  for (let n = 0; n < 20; n++) {
    await put(
      `wp-content/cache/pages/page-${n}.html`,
      `<html><a href="${place.address}/">cached</a></html>\n`.repeat(40),
    );
  }
  await put('wp-content/debug.log', `[01-Mar-2026] notice at ${place.address}/wp-cron.php\n`.repeat(50));
}

function configuration({ prefix }: ClubPlace, { name, user, password, host }: ClubDatabase): string {
  const quoted = (text: string) => phpLiteral(bytesOfText(text));
  return `<?php
/**
 * The club's configuration.
 * define( 'DB_NAME', 'not_this_one' ); -- left here by who came before
 */
define( 'DB_NAME', ${quoted(name)} );
define( "DB_USER", ${quoted(user)} );   # changed in 2023
define( 'DB_PASSWORD', ${quoted(password)} );
define( 'DB_HOST', ${quoted(host)} );
define( 'DB_CHARSET', 'utf8mb4' );
define( 'DB_COLLATE', '' );

define( 'AUTH_KEY', 'made up, like everything here' );

$table_prefix = ${quoted(prefix)};

define( 'WP_DEBUG', false );
if ( ! defined( 'ABSPATH' ) ) {
	define( 'ABSPATH', __DIR__ . '/' );
}
require_once ABSPATH . 'wp-settings.php';
`;
}

const styles = `body{font:17px/1.55 Georgia,serif;margin:0;color:#1d2b30;background:#f6f3ec}
header{background:#2b5d6b center/cover;color:#fff;padding:28px 6vw}header h1{margin:0;font-size:30px}header p{margin:4px 0 12px}
nav a{color:#fff;margin-right:18px}main{display:grid;grid-template-columns:2fr 1fr;gap:32px;padding:26px 6vw}
img{max-width:100%;border-radius:4px}aside{font-size:15px}aside section{background:#fff;padding:8px 16px;margin-bottom:14px}
footer{padding:16px 6vw;font-size:14px;color:#667}`;
