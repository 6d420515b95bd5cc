import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdirSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import type { Finding, FindingCode } from '../../src/core/findings/findings.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, here, installCms, makeDatabases, passwords, serve } from './cms.js';
import { databaseForTests, freePort } from './database.js';

const oldAddress = 'https://club.saltmarsh.example/site';
const newAddress = 'https://saltmarshrowing.example';
/** Of the user that seed.php makes. */
const secret = 'oar-and-rowlock';
const started = databaseForTests();

test('a real CMS with noisy extensions: a clean move has no findings, and each of its defects has', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  const root = folder(t);
  const next = (path: string) => join(root, 'new/htdocs', path);
  makeDatabases(database);
  installCms(database, join(root, 'old/site'), oldAddress);
  execFileSync('php', [here('noisy.php'), join(root, 'old/site'), oldAddress, '6'], { stdio: 'ignore' });
  const [oldPort, newPort] = [await freePort(), await freePort()];
  await serve(t, join(root, 'old'), '/site', oldPort);
  mkdirSync(next(''), { recursive: true });
  await serve(t, next(''), '', newPort);
  const move = join(root, 'move');
  mkdirSync(move);
  writeFileSync(
    join(move, 'move.yaml'),
    `name: club
old: { address: ${oldAddress}, reach: "http://127.0.0.1:${oldPort}", files: ../old/site, database: { from: configuration } }
new: { address: ${newAddress}, reach: "http://127.0.0.1:${newPort}", files: ../new/htdocs, database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${PW}", prefix: row_ } }
check: { pages: 6, login: { user: tamsin, password: ${secret} } }
`,
  );
  const env = { PW: passwords.new };
  for (const step of ['pack', 'rewrite', 'deliver']) {
    const ran = await run([step, '--yes'], { cwd: move, env });
    assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  }
  const check = async (): Promise<Finding[]> => {
    const { stdout, stderr } = await run(['check', '--json'], { cwd: move, env });
    assert.ok(stdout.startsWith('{'), stderr);
    assert.ok(!(stdout + stderr).includes(secret));
    // A site in use writes to its own tables; and not all of its pages are compared here.
    return JSON.parse(stdout).findings.filter(
      ({ code }: Finding) => !['table-changed-since', 'pages-not-all'].includes(code),
    );
  };
  for (let i = 0; i < 2; i++) assert.deepEqual(await check(), []);
  for (const name of ['journal.ndjson', 'results/check.json'])
    assert.ok(!readFileSync(join(move, name), 'utf8').includes(secret), name);

  const sql = (statement: string) => () => {
    database.sql(statement, 'new_club');
  };
  const option = (name: string, value: string) =>
    sql(`UPDATE row_options SET option_value = '${value}' WHERE option_name = '${name}'`);
  const edit = (path: string, change: (text: string) => string) => () =>
    writeFileSync(next(path), change(readFileSync(next(path), 'utf8')));
  const plugin = 'wp-content/plugins/creek-hosts/creek-hosts.php';
  const into = (code: string) => edit(plugin, text => text.replace('<?php', `<?php ${code}`));
  const defects: [what: string, code: FindingCode, where: RegExp, spoil: () => void][] = [
    ['hidden from search engines', 'page-indexing-differs', /noindex/, option('blog_public', '0')],
    ['its old address', 'page-old-address', /link href/, option('home', oldAddress)],
    ['other permalinks', 'page-redirect-differs', /\?p=/, option('permalink_structure', '')],
    [
      'no image',
      'asset-broken',
      /boat\.png.*404|404.*boat\.png/,
      () => rmSync(next('wp-content/uploads/boat.png')),
    ],
    [
      'half an image',
      'image-broken',
      /crew\.jpg.*cut off/,
      () => truncateSync(next('wp-content/uploads/crew.jpg'), 300),
    ],
    [
      'a warning',
      'page-message-shown',
      /Undefined variable/,
      into("ini_set( 'display_errors', '1' ); add_action( 'wp_footer', function () { echo $creek_tide; } );"),
    ],
    ['a syntax error', 'page-server-error', /500/, into('this is no code;')],
    ['an early end', 'page-blank', /blank/, into('exit;')],
    [
      'another password',
      'page-database-error',
      /database error/,
      edit('wp-config.php', text => text.replace(/('DB_PASSWORD',\s*').*?('\s*\))/, '$1wrong$2')),
    ],
    [
      'another prefix',
      'page-installation',
      /installation page/,
      edit('wp-config.php', text => text.replace('row_', 'raw_')),
    ],
    [
      'maintenance',
      'page-in-maintenance',
      /503/,
      () => writeFileSync(next('.maintenance'), '<?php $upgrading = time();'),
    ],
    [
      'another title',
      'page-title-differs',
      /High Tide/,
      sql("UPDATE row_posts SET post_title = 'High Tide' WHERE post_name = 'curlew'"),
    ],
    [
      'a draft',
      'published-differs',
      /post: \d+ instead of \d+/,
      sql("UPDATE row_posts SET post_status = 'draft' WHERE post_name = 'curlew'"),
    ],
    [
      'garbled letters',
      'page-garbled',
      /Ã¼/,
      sql(
        "UPDATE row_posts SET post_content = CONCAT(post_content, '<p>GrÃ¼ÃŸe</p>') WHERE post_name = 'curlew'",
      ),
    ],
    [
      'a dump for all',
      'file-fetchable',
      /database dump.*club\.sql/,
      () => writeFileSync(next('club.sql'), 'CREATE TABLE secrets (a int);'),
    ],
    [
      'a script among uploads',
      'script-in-uploads',
      /shell\.php/,
      () => writeFileSync(next('wp-content/uploads/shell.php'), `<?php ${'// '.repeat(100)}`),
    ],
    ['no extensions', 'extensions-differ', /creek-hosts/, option('active_plugins', 'a:0:{}')],
    [
      'a closed interface',
      'interface-differs',
      /401|403/,
      into(
        "add_filter( 'rest_authentication_errors', function () { return new WP_Error( 'no', 'No', array( 'status' => 401 ) ); } );",
      ),
    ],
    [
      'another user password',
      'login-refused',
      /tamsin/,
      sql("UPDATE row_users SET user_pass = MD5('another')"),
    ],
    [
      'a cookie for the old host',
      'page-cookie-differs',
      /club\.saltmarsh\.example/,
      edit('wp-config.php', text =>
        text.replace('<?php', "<?php define( 'COOKIE_DOMAIN', 'club.saltmarsh.example' );"),
      ),
    ],
  ];
  const files = [plugin, 'wp-config.php', 'wp-content/uploads/boat.png', 'wp-content/uploads/crew.jpg'];
  const before = files.map(path => readFileSync(next(path)));
  const rows = database.dump('new_club');
  for (const [what, code, where, spoil] of defects)
    await t.test(what, async () => {
      spoil();
      try {
        const found = await check();
        const said = found.map(one => `${one.code} ${one.place} ${one.what}`);
        assert.ok(
          found.some((one, i) => one.code === code && where.test(said[i]!)),
          JSON.stringify(said, null, 1),
        );
      } finally {
        for (const [i, path] of files.entries()) writeFileSync(next(path), before[i]!);
        for (const path of ['.maintenance', 'club.sql', 'wp-content/uploads/shell.php'])
          rmSync(next(path), { force: true });
        database.sql(rows, 'new_club');
      }
    });
});
