import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { test } from 'node:test';
import { parseAddress } from '../../../src/core/address/address.js';
import { asBytes } from '../../../src/core/bytes.js';
import { type Fitted, fitStatement } from '../../../src/core/database/fitting.js';
import { readDatabaseUrl, serverNamed, shownDatabase } from '../../../src/core/database/place.js';
import {
  type DataEdit,
  type DataWish,
  hashLike,
  portableHash,
} from '../../../src/core/site/data/data-edits.js';
import { RowEdits } from '../../../src/core/site/data/row-edits.js';
import { wordpressEdits } from '../../../src/core/site/data/wordpress-data.js';
import { drupal } from '../../../src/core/site/families/drupal.js';
import { mediawiki } from '../../../src/core/site/families/mediawiki.js';
import { needs } from '../../help/real.js';

test('statements are fitted to what a server has, and strings and names in them are left', () => {
  const has = {
    charsets: new Set(['latin1', 'utf8mb3', 'utf8mb4']),
    collations: new Set([
      'latin1_swedish_ci',
      'utf8mb3_general_ci',
      'utf8mb3_unicode_ci',
      'utf8mb4_general_ci',
      'utf8mb4_unicode_ci',
      'utf8mb4_unicode_520_ci',
      'utf8mb4_bin',
      'uca1400_ai_ci',
    ]),
  };
  const cases: [before: string, after: string, told: string[]][] = [
    [
      "CREATE TABLE `COLLATE=x` (a text COLLATE utf8mb4_0900_ai_ci DEFAULT 'COLLATE=utf8mb4_0900_ai_ci') DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_bin",
      "CREATE TABLE `COLLATE=x` (a text COLLATE utf8mb4_unicode_520_ci DEFAULT 'COLLATE=utf8mb4_0900_ai_ci') DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin",
      ['utf8mb4_0900_ai_ci → utf8mb4_unicode_520_ci', 'utf8mb4_0900_bin → utf8mb4_bin'],
    ],
    [
      'CREATE TABLE t (a text) CHARSET=utf8 COLLATE=utf8_general_ci',
      'CREATE TABLE t (a text) CHARSET=utf8 COLLATE=utf8mb3_general_ci',
      ['utf8_general_ci → utf8mb3_general_ci'],
    ],
    [
      'CREATE TABLE t (a text COLLATE utf8mb4_uca1400_ai_ci)',
      'CREATE TABLE t (a text COLLATE utf8mb4_uca1400_ai_ci)',
      [],
    ],
    [
      'CREATE TABLE t (a text) CHARSET=big5 COLLATE=big5_chinese_ci',
      'CREATE TABLE t (a text) CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_520_ci',
      ['big5 → utf8mb4', 'big5_chinese_ci → utf8mb4_unicode_520_ci'],
    ],
    [
      'CREATE ALGORITHM=MERGE DEFINER=`a`@`%` SQL SECURITY DEFINER VIEW v AS select 1',
      'CREATE ALGORITHM=MERGE SQL SECURITY DEFINER VIEW v AS select 1',
      ['DEFINER left out'],
    ],
    [
      "SET SQL_MODE='NO_AUTO_CREATE_USER,STRICT_TRANS_TABLES'",
      "SET SQL_MODE='STRICT_TRANS_TABLES'",
      ['SQL mode NO_AUTO_CREATE_USER left out'],
    ],
  ];
  for (const [before, after, told] of cases) {
    const fitted: Fitted = new Map();
    assert.equal(fitStatement(asBytes(before), has, fitted), after);
    assert.deepEqual([...fitted.keys()], told);
    assert.equal(fitStatement(asBytes(after), has, new Map()), after, 'fitted, it stays');
  }
});

test('places of databases are read as configurations and sheets write them, and shown without a password', () => {
  assert.deepEqual(serverNamed('db.example:3307'), { host: 'db.example', port: 3307 });
  assert.deepEqual(serverNamed('localhost:/run/x.sock'), {
    host: 'localhost',
    port: 3306,
    socket: '/run/x.sock',
  });
  assert.deepEqual(serverNamed(':/run/x.sock'), { host: 'localhost', port: 3306, socket: '/run/x.sock' });
  assert.deepEqual(serverNamed('[::1]:3307'), { host: '::1', port: 3307 });
  assert.deepEqual(serverNamed('2001:db8::1', '3308'), { host: '2001:db8::1', port: 3308 });
  assert.equal(serverNamed('localhost', '3310').port, 3310);
  const place = readDatabaseUrl('mysql://club%40x:p%2Fw@[::1]:3307/my%20db?socket=/run/s')!;
  assert.deepEqual(place, {
    host: '::1',
    port: 3307,
    socket: '/run/s',
    user: 'club@x',
    password: 'p/w',
    name: 'my db',
  });
  assert.ok(!shownDatabase(place).includes('p/w'));
  assert.equal(readDatabaseUrl('postgres://x'), undefined);
});

const wish: DataWish = {
  oldAddress: parseAddress('https://club.saltmarsh.example/site'),
  oldAddresses: [parseAddress('https://club.saltmarsh.example/site')],
  newAddress: parseAddress('https://saltmarshrowing.example'),
  prefix: 'row_',
  tables: [
    'row_options',
    'row_2_options',
    'row_users',
    'row_usermeta',
    'row_site',
    'row_blogs',
    'row_sitemeta',
    'other_options',
  ],
  searchEngines: 'keep',
  holdsBack: name => /cache/.test(name),
  random: randomBytes,
};

function changed(
  edits: readonly DataEdit[],
  table: string,
  column: string,
  before: string,
): string | undefined {
  let value: string | undefined;
  for (const { table: of, change } of edits)
    if (of === table && !('remove' in change) && change.column === column)
      value = change.to(asBytes(value ?? before)) ?? value;
  return value;
}

test('a network’s hosts and paths move, its other hosts stay, and extensions are held back by name', () => {
  const edits = wordpressEdits(wish);
  const domain = (before: string) => changed(edits, 'row_blogs', 'domain', before);
  assert.deepEqual(
    [
      'club.saltmarsh.example',
      'juniors.CLUB.saltmarsh.example',
      'heron.example',
      'notclub.saltmarsh.example',
    ].map(domain),
    ['saltmarshrowing.example', 'juniors.saltmarshrowing.example', undefined, undefined],
  );
  assert.deepEqual(
    ['/site/', '/site/juniors/', '/sitemap/', '/'].map(before => changed(edits, 'row_blogs', 'path', before)),
    ['/', '/juniors/', undefined, undefined],
  );
  const held = edits.find(({ table, heldBack }) => table === 'row_sitemeta' && heldBack)!;
  const before = asBytes('a:2:{s:11:"cache/c.php";i:1700000000;s:5:"b.php";i:1;}');
  assert.ok(!('remove' in held.change));
  const after = held.change.to(before)!;
  assert.equal(after, 'a:1:{s:5:"b.php";i:1;}');
  assert.deepEqual(held.heldBack!(before, after), ['cache/c.php']);
  assert.ok(
    edits.every(({ table }) => table.startsWith('row_')),
    'other sites are left',
  );
});

test('the site address keeps a folder of its own, and is put right where it names somewhere else', () => {
  const to = wordpressEdits(wish).find(({ where }) =>
    where.some(one => 'is' in one && one.is === 'siteurl'),
  )!.change;
  assert.ok(!('remove' in to));
  assert.equal(to.to(asBytes('https://saltmarshrowing.example/wp')), undefined);
  assert.equal(to.to(asBytes('http://192.0.2.7')), 'https://saltmarshrowing.example');
});

test('a password’s hash is one that PHP works out in the same way', t => {
  if (!needs(t, 'php')) return;
  const hash = portableHash('neap & spring “tide”', randomBytes);
  const program = `
    $itoa = './0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';
    [ , $password, $hash ] = $argv;
    $count = 1 << strpos($itoa, $hash[3]);
    $digest = md5(substr($hash, 4, 8) . $password, true);
    do { $digest = md5($digest . $password, true); } while (--$count);
    $out = ''; $i = 0;
    do { $value = ord($digest[$i++]); $out .= $itoa[$value & 63]; if ($i < 16) $value |= ord($digest[$i]) << 8; $out .= $itoa[($value >> 6) & 63]; if ($i++ >= 16) break; if ($i < 16) $value |= ord($digest[$i]) << 16; $out .= $itoa[($value >> 12) & 63]; if ($i++ >= 16) break; $out .= $itoa[($value >> 18) & 63]; } while ($i < 16);
    echo substr($hash, 0, 12) . $out;`;
  assert.equal(execFileSync('php', ['-r', program, '--', 'neap & spring “tide”', hash]).toString(), hash);
  assert.notEqual(portableHash('x', randomBytes), portableHash('x', randomBytes), 'salted');
});

test('a new password has a hash of the kind that the site writes, which PHP accepts', t => {
  if (!needs(t, 'php')) return;
  const password = "neap & 'spring' “tide”";
  const accepted = (hash: string) =>
    execFileSync('php', [
      '-r',
      'echo password_verify($argv[1], $argv[2]) ? "yes" : "no";',
      '--',
      password,
      hash,
    ]).toString();
  for (const written of ['$2y$10$abc', '$argon2id$v=19$m=65536'])
    assert.equal(accepted(hashLike(asBytes(written), password, randomBytes)), 'yes');
  assert.match(hashLike(asBytes('$S$Dabc'), password, randomBytes), /^\$P\$/);
});

test('a site of the drupal family gets its name, slogan and administrator, in new and old tables', () => {
  const asked = {
    ...wish,
    title: 'Rowing, moved',
    tagline: 'é',
    administrator: { login: 'tamsin', mail: 'tamsin@saltmarshrowing.example', password: 'x' },
  };
  const site = asBytes(
    'a:3:{s:4:"name";s:4:"Club";s:6:"slogan";s:0:"";s:4:"page";a:1:{s:5:"front";s:5:"/node";}}',
  );
  const edits = drupal.dataEdits!({ ...asked, tables: ['row_config', 'row_users', 'row_users_field_data'] });
  assert.equal(
    changed(edits, 'row_config', 'data', site),
    'a:3:{s:4:"name";s:13:"Rowing, moved";s:6:"slogan";s:2:"\xc3\xa9";s:4:"page";a:1:{s:5:"front";s:5:"/node";}}',
  );
  assert.equal(changed(edits, 'row_users_field_data', 'mail', 'old'), 'tamsin@saltmarshrowing.example');
  assert.match(changed(edits, 'row_users_field_data', 'pass', '$2y$10$x') ?? '', /^\$2y\$10\$.{53}$/);
  assert.equal(changed(edits, 'row_users', 'pass', '$2y$10$x'), undefined);
  const old = drupal.dataEdits!({ ...asked, tables: ['row_variable', 'row_users'] });
  assert.equal(changed(old, 'row_variable', 'value', 's:4:"Club";') !== undefined, true);
  assert.match(changed(old, 'row_users', 'pass', '$S$D') ?? '', /^\$P\$/);
  assert.ok(
    [...edits, ...old].every(
      ({ table, secret, change }) =>
        'remove' in change || table !== 'row_users' || change.column !== 'pass' || secret,
    ),
  );
});

test('an administrator of the mediawiki family gets a hash that PHP works out in the same way', t => {
  if (!needs(t, 'php')) return;
  const administrator = { login: 'tamsin', password: 'neap & spring' };
  const edits = mediawiki.dataEdits!({ ...wish, administrator, tables: ['row_user', 'row_objectcache'] });
  assert.ok(edits.some(({ change, table }) => 'remove' in change && table === 'row_objectcache'));
  const edit = edits.find(({ table }) => table === 'row_user')!;
  assert.deepEqual(edit.where, [{ column: 'user_name', is: 'Tamsin' }]);
  assert.ok(edit.secret);
  const hash = changed(edits, 'row_user', 'user_password', '')!;
  const program = `
    [ , $password, $hash ] = $argv;
    [ , $type, $algorithm, $rounds, $length, $salt, $sum ] = explode(':', $hash);
    echo hash_equals(base64_encode(hash_pbkdf2($algorithm, $password, base64_decode($salt), (int) $rounds, (int) $length, true)), $sum) ? $type : 'no';`;
  assert.equal(execFileSync('php', ['-r', program, '--', 'neap & spring', hash]).toString(), 'pbkdf2');
});

test('the index of external links follows the addresses that it is of, in both of its shapes', () => {
  const edits = mediawiki.dataEdits!({ ...wish, tables: ['row_externallinks'] });
  const rows = new RowEdits(edits);
  const moved = (row: Record<string, string>) => {
    const columns = Object.keys(row).map(name => ({ name }));
    const cells = rows.apply(
      'row_externallinks',
      columns,
      Object.values(row).map(value => Buffer.from(value)),
    )!;
    return cells.map(cell => String(cell));
  };
  const [old, next] = ['https://example.saltmarsh.club.', 'https://example.saltmarshrowing.'];
  const one = (index: string) =>
    moved({ el_id: '1', el_index: index, el_index_60: index.slice(0, 60) }).slice(1);
  const two = (host: string, path: string) =>
    moved({ el_id: '1', el_to_domain_index: host, el_to_path: path }).slice(1);
  const long = `/${'tide'.repeat(20)}`;
  assert.deepEqual(one(`${old}/site${long}`), [next + long, (next + long).slice(0, 60)]);
  assert.deepEqual(one('http://example.saltmarsh.club./site'), [`${next}/`, `${next}/`]);
  for (const stays of [`${old}/sites/x`, `${old}boat/site/x`, 'https://example.saltmarsh./site'])
    assert.deepEqual(one(stays), [stays, stays]);
  assert.deepEqual(two(old, '/site/log?x=1'), [next, '/log?x=1']);
  assert.deepEqual(two(old, '/other'), [old, '/other']);
  // A link to the new address is no old one, whatever its path.
  assert.deepEqual(two(next, '/site/log'), [next, '/site/log']);
});
