import assert from 'node:assert/strict';
import {
  chmodSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { dirname, join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { makeClub, newPassword } from '../help/club.js';
import { folder, run } from '../help/program.js';

/** A club with a configuration that has something of everything to set up. */
async function makeRichClub(t: TestContext, configure: string): Promise<{ root: string; move: string }> {
  const root = folder(t);
  const move = await makeClub(root, sheet => `${sheet}configure: ${configure}\n`);
  const config = join(root, 'old/site/wp-config.php');
  const text = readFileSync(config, 'utf8')
    .replace("'WP_DEBUG', false", "'WP_DEBUG', true")
    .replace(
      '<?php',
      "<?php\ndefine( 'WP_HOME', 'https://club.saltmarsh.example/site' );\ndefine('COOKIE_DOMAIN', '.club.saltmarsh.example');\ninclude __DIR__ . '/keys.php';\n// DB_PASSWORD was 'commented'",
    );
  writeFileSync(config, text);
  chmodSync(config, 0o640);
  writeFileSync(join(root, 'old/site/keys.php'), "<?php define('NONCE_SALT', 'old salt');\n");
  mkdirSync(join(root, 'old/site/.well-known'));
  return { root, move };
}

const read = (...path: string[]) => readFileSync(join(...path), 'utf8');

test('setting up is shown as a difference without secrets, carried out, repeated without harm, and undone', async t => {
  const { root, move } = await makeRichClub(
    t,
    '{ fresh-keys: true, search-engines: hide, maintenance: "on" }',
  );
  assert.equal((await run(['pack'], { cwd: move })).code, 0);
  assert.equal((await run(['rewrite'], { cwd: move })).code, 0);
  const dry = await run(['deliver', '--dry-run'], { cwd: move });
  assert.equal(dry.code, 0, dry.stderr);
  for (const line of [
    "-define( 'DB_NAME', 'club_old' );",
    "+define( 'DB_NAME', 'saltmarsh' );",
    "-define( 'WP_DEBUG', true );",
    "+define( 'WP_DEBUG', false );",
    "+define( 'WP_HOME', 'https://saltmarshrowing.example' );",
    "+define('COOKIE_DOMAIN', '.saltmarshrowing.example');",
    '+Disallow: /',
    '+RewriteBase /',
    '--- /dev/null',
  ])
    assert.ok(dry.stdout.includes(`\n${line}\n`), `${line} in\n${dry.stdout}`);
  for (const secret of [newPassword, "n'e", 'o\'ld"pw', 'old salt', 'made up', 'commented'])
    assert.ok(!dry.stdout.includes(secret), secret);
  assert.match(dry.stdout, /^Files {6}\d+ files \(.*\) for .*new\/htdocs$/m);
  assert.ok(!existsSync(join(root, 'new/htdocs')));

  assert.equal((await run(['deliver'], { cwd: move })).code, 0);
  const site = join(root, 'new/htdocs');
  assert.equal(read(site, 'robots.txt'), 'User-agent: *\nDisallow: /\n');
  assert.match(read(site, '.maintenance'), /\$upgrading/);
  const [, key] = /'AUTH_KEY', '([^']+)'/.exec(read(site, 'wp-config.php'))!;
  assert.match(key!, /^[\w-]{64}$/);
  assert.match(read(site, 'keys.php'), /^<\?php define\('NONCE_SALT', '[\w-]{64}'\);\n$/);
  assert.equal(statSync(join(site, 'wp-config.php')).mode & 0o777, 0o640);
  assert.equal((await run(['check'], { cwd: move })).code, 0);

  const again = await run(['deliver', '--only', 'configuration', '--yes', '--json'], { cwd: move });
  assert.deepEqual(JSON.parse(again.stdout).result.written, []);

  const sheet = join(move, 'move.yaml');
  const other = read(sheet)
    .replace('search-engines: hide', 'search-engines: keep')
    .replace('maintenance: "on"', 'maintenance: "off"')
    .replace('prefix: row_', 'prefix: oar_');
  writeFileSync(sheet, other);
  writeFileSync(join(site, 'wp-config.php'), `${read(site, 'wp-config.php')}// by hand\n`);
  const unasked = await run(['deliver', '--only', 'configuration'], { cwd: move });
  assert.equal(unasked.code, 2);
  const set = await run(['deliver', '--only', 'configuration', '--yes'], { cwd: move });
  assert.equal(set.code, 0, set.stderr);
  const after = read(site, 'wp-config.php');
  assert.ok(after.endsWith('// by hand\n') && after.includes("'oar_'") && after.includes(key!));
  assert.equal(read(site, 'robots.txt'), read(root, 'old/site/robots.txt'));
  assert.ok(!existsSync(join(site, '.maintenance')));
  assert.ok(!(set.stdout + set.stderr).includes(newPassword));
  writeFileSync(join(site, '.htaccess'), '# by hand\n');
  const left = await run(['deliver', '--only', 'configuration', '--yes'], { cwd: move });
  assert.match(left.stdout, /set-up-by-hand/);
  assert.equal(read(site, '.htaccess'), '# by hand\n');
  const repeated = await run(['deliver', '--only', 'configuration', '--yes'], { cwd: move });
  assert.match(repeated.stdout, /everything was set up/);

  // What was changed by hand is kept.
  assert.equal((await run(['undo', '--yes'], { cwd: move })).code, 0);
  assert.deepEqual(readdirSync(join(root, 'new')), ['.able-porter.saltmarsh']);
  const [, kept, ...others] = readdirSync(join(root, 'new/.able-porter.saltmarsh'));
  assert.deepEqual(others, []);
  assert.equal(read(root, `new/.able-porter.saltmarsh/${kept}/.htaccess`), '# by hand\n');
});

test('at a site that was copied by hand, only its configuration is updated, and undo restores it', async t => {
  const { root, move } = await makeRichClub(t, '{ search-engines: show }');
  mkdirSync(join(root, 'new'), { recursive: true });
  renameSync(join(root, 'old/site'), join(root, 'new/htdocs'));
  const site = join(root, 'new/htdocs');
  const before = read(site, 'wp-config.php');
  writeFileSync(join(site, 'robots.txt'), 'User-agent: *\nDisallow: /\nDisallow: /wp-admin/\n');
  const set = await run(['deliver', '--only', 'configuration', '--yes', '--json'], { cwd: move });
  assert.equal(set.code, 0, set.stderr);
  const { written, keepsakes } = JSON.parse(set.stdout).result;
  assert.deepEqual(written.map((path: string) => path.slice(site.length + 1)).sort(), [
    '.htaccess',
    'robots.txt',
    'wp-config.php',
  ]);
  assert.equal(keepsakes.length, 3);
  assert.ok(
    keepsakes.every((path: string) => !path.startsWith(`${site}/`)),
    'nothing is kept where visitors fetch',
  );
  assert.equal(read(site, 'robots.txt'), 'User-agent: *\nDisallow: /wp-admin/\n');
  assert.match(read(site, 'wp-config.php'), /'row_'/);
  assert.equal((await run(['undo', '--yes'], { cwd: move })).code, 0);
  assert.equal(read(site, 'wp-config.php'), before);
  assert.equal(read(site, 'robots.txt'), 'User-agent: *\nDisallow: /\nDisallow: /wp-admin/\n');
  assert.deepEqual(readdirSync(join(root, 'new')), ['htdocs']);
});

test('a configuration one folder above the site goes to the same place, and back', async t => {
  const root = folder(t);
  const move = await makeClub(root, sheet => sheet.replace('../new/htdocs', '../new/web/htdocs'));
  const text = read(root, 'old/site/wp-config.php').replace('<?php', "<?php require __DIR__ . '/wp-db.php';");
  renameSync(join(root, 'old/site/wp-config.php'), join(root, 'old/wp-config.php'));
  writeFileSync(join(root, 'old/wp-config.php'), text.replace(/define\( 'DB_PASSWORD'.*\n/, ''));
  writeFileSync(join(root, 'old/wp-db.php'), "<?php define('DB_PASSWORD', 'x');\n");
  mkdirSync(join(root, 'new/web'), { recursive: true });
  writeFileSync(join(root, 'new/web/wp-db.php'), 'somebody else’s');
  const went = await run(['go', '--yes', '--json'], { cwd: move });
  assert.equal(went.code, 0, went.stdout + went.stderr);
  assert.match(read(root, 'new/web/wp-config.php'), /'saltmarsh'/);
  assert.match(read(root, 'new/web/wp-db.php'), /n\\'e/);
  assert.ok(!existsSync(join(root, 'new/web/htdocs/wp-config.php')));
  const kept = JSON.parse(went.stdout).outcomes[3].result.keepsakes as string[];
  assert.deepEqual(kept, [join(root, 'new/web/.able-porter.saltmarsh/wp-db.php.keepsake')]);
  writeFileSync(join(root, 'new/web/wp-db.php'), "<?php define('DB_PASSWORD', 'wrong');\n");
  const check = await run(['check', '--json'], { cwd: move });
  assert.match(check.stdout, /"configuration-differs"/);
  // Somebody's change is nobody's to lose: not the next delivery's, not that of undo.
  const again = (...more: string[]) => run(['deliver', '--again', '--yes', ...more], { cwd: move });
  const stopped = await again();
  assert.equal(stopped.code, 1);
  assert.match(stopped.stdout, /1 file[\s\S]*\.\.\/wp-db\.php/);
  assert.match(read(root, 'new/web/wp-db.php'), /wrong/);
  assert.equal((await again('--replace-changes')).code, 0);
  assert.match(read(root, 'new/web/wp-db.php'), /n\\'e/);
  assert.match(read(root, 'new/web/.able-porter.saltmarsh/wp-db.php.keepsake2'), /wrong/);
  const first = await run(['undo', '--keepsake', '1', '--yes'], { cwd: move });
  assert.deepEqual([first.code, /Restore it with "able-porter undo"/.test(first.stderr)], [2, true]);
  assert.equal((await run(['undo', '--keepsake', '2', '--yes'], { cwd: move })).code, 0);
  assert.match(read(root, 'new/web/wp-db.php'), /wrong/);
  const undone = await run(['undo', '--yes'], { cwd: move });
  assert.equal(undone.code, 0, undone.stderr);
  assert.equal(read(root, 'new/web/wp-db.php'), 'somebody else’s');
  assert.deepEqual(readdirSync(join(root, 'new/web')), ['.able-porter.saltmarsh', 'wp-db.php']);
  assert.deepEqual(readdirSync(join(root, 'new/web/.able-porter.saltmarsh')), [
    '.htaccess',
    // What the restored keepsake was exchanged for, and then what undo took away and somebody had changed.
    'htdocs.keepsake3',
    'htdocs.keepsake4',
    'wp-config.php.keepsake4',
    'wp-db.php.keepsake3',
    'wp-db.php.keepsake4',
  ]);
  assert.match(read(root, 'new/web/.able-porter.saltmarsh/wp-db.php.keepsake4'), /wrong/);
});

test('a program in a folder of its own: either folder is understood, and what loads it goes along', async t => {
  const root = folder(t);
  const move = await makeClub(root, sheet => sheet.replace('../new/htdocs', '../new/web/rowing'));
  const home = "<?php\nrequire __DIR__ . '/site/wp-blog-header.php';\n";
  writeFileSync(join(root, 'old/index.php'), home);
  writeFileSync(join(root, 'old/.htaccess'), 'RewriteBase /\nRewriteRule . /index.php [L]\n');
  writeFileSync(join(root, 'old/notes.txt'), 'not the site’s');
  mkdirSync(join(root, 'new/web'), { recursive: true });
  const codes = async (...args: string[]) => {
    const ran = await run([...args, '--json', '--yes'], { cwd: move });
    return (JSON.parse(ran.stdout).findings as { level: string; code: string }[])
      .map(({ level, code }) => `${level} ${code}`)
      .filter(one => /front|within/.test(one));
  };
  // The sheet's address is the program's, and the new folder has another name.
  assert.deepEqual(await codes('survey'), ['warn front-above', 'warn front-address']);
  const sheet = read(move, 'move.yaml');
  const written = (from: string, to: string) =>
    writeFileSync(
      join(move, 'move.yaml'),
      sheet.replace('saltmarsh.example/site', 'saltmarsh.example').replace(from, to),
    );
  written('../old/site', '../old');
  for (const step of ['survey', 'pack']) assert.deepEqual(await codes(step), ['stop program-within']);
  written('../new/web/rowing', '../new/web/site');
  assert.deepEqual(await codes('pack'), ['note front-above']);
  written('', '');
  for (const step of ['pack', 'rewrite', 'deliver'])
    assert.equal((await run([step, '--yes'], { cwd: move })).code, 0);
  assert.deepEqual(readdirSync(join(root, 'new/web')).sort(), ['.htaccess', 'index.php', 'rowing']);
  assert.equal(read(root, 'new/web/index.php'), home.replace('/site/', '/rowing/'));
  assert.equal((await run(['undo', '--yes'], { cwd: move })).code, 0);
  assert.deepEqual(readdirSync(join(root, 'new/web')), []);
});

test('a site of no known family: credentials and addresses in its own configuration files', async t => {
  const root = folder(t);
  const files: Record<string, string> = {
    'index.php': '<?php $config = require __DIR__ . "/config.php";\n',
    'config.php':
      "<?php\nreturn ['url' => 'https://a.example/x', 'db' => ['user' => 'u', 'password' => 'p', 'name' => 'd', 'host' => 'h']];\n",
    'user/config/site.yaml': 'title: Club\nbase: "https://a.example/x/"\n',
    'content/page.md': '[tides](https://a.example/x/tides)\n',
  };
  for (const [name, text] of Object.entries(files)) {
    mkdirSync(join(root, 'old', dirname(name)), { recursive: true });
    writeFileSync(join(root, 'old', name), text);
  }
  mkdirSync(join(root, 'move'));
  writeFileSync(
    join(root, 'move/move.yaml'),
    'name: club\nold: { address: "https://a.example/x", files: ../old }\nnew: { address: "https://b.example", files: ../new, database: { server: "mysql://u2@127.0.0.1:9/d2", password: "q", dump: ../d.sql } }\n',
  );
  for (const step of ['survey', 'pack', 'rewrite', 'deliver']) {
    const ran = await run([step, '--yes'], { cwd: join(root, 'move') });
    assert.equal(ran.code, 0, `${step}: ${ran.stdout}${ran.stderr}`);
  }
  assert.equal(
    read(root, 'new/config.php'),
    "<?php\nreturn ['url' => 'https://b.example', 'db' => ['user' => 'u2', 'password' => 'q', 'name' => 'd2', 'host' => '127.0.0.1']];\n",
  );
  assert.equal(read(root, 'new/user/config/site.yaml'), 'title: Club\nbase: "https://b.example/"\n');
  assert.equal(
    read(root, 'new/content/page.md'),
    files['content/page.md'],
    'content is named in rewrite.files',
  );
});
