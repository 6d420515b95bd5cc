import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { test } from 'node:test';
import fc from 'fast-check';
import { applyEdits, bufferOf, bytesOf, bytesOfText } from '../../src/core/bytes.js';
import type { Wanted } from '../../src/core/site/configuration/source/facts.js';
import { familyNamed } from '../../src/core/site/families/families.js';
import { configurations, filesOf } from '../help/configurations.js';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs, realRequired } from '../help/real.js';

const awkward = fc
  .array(
    fc.oneof(
      fc.constantFrom(
        "'",
        '"',
        '\\',
        '$',
        '{$x}',
        '\n',
        '\r\n',
        '?>',
        '*/',
        'é',
        '🚣',
        '%',
        ' ',
        '\\n',
        "\\'",
        'EOT',
        '\0',
      ),
      fc.string({ unit: 'grapheme', maxLength: 4 }),
    ),
    { minLength: 1, maxLength: 8 },
  )
  .map(pieces => pieces.join(''));

/** The configuration that the real CMS brings along, where it is installed. */
function installed(): (typeof configurations)[number][] {
  const sample = '/usr/share/wordpress/wp-config-sample.php';
  if (!existsSync(sample)) return [];
  return [
    {
      family: 'wordpress',
      style: 'as the CMS itself writes it',
      main: 'wp-config.php',
      source: bytesOf(readFileSync(sample)),
      more: { 'wp-settings.php': bytesOfText('<?php\n') },
      facts: {},
      editable: ['name', 'user', 'password', 'host', 'prefix', 'secretKey.0', 'secretKey.7'],
      asked: ['DB_NAME', 'DB_USER', 'DB_PASSWORD', 'DB_HOST', '$table_prefix', 'AUTH_KEY', 'NONCE_SALT'],
    },
  ];
}

const samples = effort(60, 300);
test(`PHP itself, loading an edited configuration, sees ${samples} random values in every style`, t => {
  if (!needs(t, 'php')) return;
  if (realRequired) assert.equal(installed().length, 1);
  const root = folder(t);
  const cases: { file: string; asked: readonly string[]; wanted: string[] }[] = [];
  for (const [n, configuration] of [...configurations, ...installed()].entries()) {
    const { family, editable, asked } = configuration;
    const files = filesOf(configuration);
    for (const [i, values] of fc
      .sample(fc.array(awkward, { minLength: editable.length, maxLength: editable.length }), samples)
      .entries()) {
      const wanted: Wanted = Object.fromEntries(editable.map((fact, k) => [fact, bytesOfText(values[k]!)]));
      const { edits } = familyNamed(family).editConfiguration(files, wanted);
      const site = join(root, `${n}-${i}`, 'site');
      mkdirSync(join(site, 'includes'), { recursive: true });
      writeFileSync(join(site, 'includes/DefaultSettings.php'), '<?php $wgDBname = 1;');
      for (const [path, source] of files.sources) {
        if (source === undefined) continue;
        const after = applyEdits(source, edits.get(path) ?? []);
        const own = family === 'joomla' ? after.replace('class JConfig', `class JConfig${i}`) : after;
        mkdirSync(dirname(join(site, path)), { recursive: true });
        writeFileSync(join(site, path), bufferOf(own as typeof source));
      }
      const file = join(site, files.main);
      cases.push({ file, asked: asked.map(one => one.replace('JConfig', `JConfig${i}`)), wanted: values });
    }
  }
  // One process for each configuration with constants would take minutes; each is run in a fork of its own.
  const script = join(root, 'ask.php');
  writeFileSync(
    script,
    `<?php
foreach (file($argv[1], FILE_IGNORE_NEW_LINES) as $line) {
  [$file, $asked] = json_decode($line);
  $pid = pcntl_fork();
  if ($pid === 0) {
    error_reporting(0);
    ob_start();
    $app_root = preg_replace('{/site/.*}', '/site', $file); $site_path = 'sites/club.example';
    define('ABSPATH', "$app_root/"); define('MEDIAWIKI', 1); $IP = $app_root; function wfLoadSkin() {}
    $returned = include $file;
    ob_end_clean();
    $said = array_map(fn($one) => base64_encode(eval('global $table_prefix, $databases, $base_url, $wgDBname, $wgDBuser, $wgDBpassword, $wgDBprefix, $wgServer, $wgScriptPath, $wgSitename, $settings, $returned, $db_name, $db_user, $db_pass; return ' . $one . ';')), $asked);
    file_put_contents('php://stdout', json_encode($said) . "\\n");
    exit(0);
  }
  pcntl_waitpid($pid, $status);
}
`,
  );
  const list = join(root, 'list.ndjson');
  writeFileSync(list, cases.map(({ file, asked }) => `${JSON.stringify([file, asked])}\n`).join(''));
  const answers = execFileSync('php', [script, list], { maxBuffer: 1 << 28 })
    .toString()
    .trim()
    .split('\n');
  assert.equal(answers.length, cases.length);
  for (const [i, { file, wanted }] of cases.entries()) {
    const said = (JSON.parse(answers[i]!) as string[]).map(one => Buffer.from(one, 'base64').toString());
    assert.deepEqual(said, wanted, file);
  }
});

test('text that PHP has compressed is rewritten inside, and PHP reads it', async t => {
  if (!needs(t, 'php')) return;
  const root = folder(t);
  const php = (code: string) => execFileSync('php', ['-r', code], { cwd: root }).toString();
  const escapes = `['\\\\' => '\\\\\\\\', "'" => "\\\\'", "\\0" => '\\0', "\\n" => '\\n', "\\x1a" => '\\Z', "\\r" => '\\r', '"' => '\\"']`;
  php(`
    $texts = ['See [https://club.saltmarsh.example/site/tides the tides]. ' . str_repeat("Neap and spring.\\n", 400),
      'https://club.saltmarsh.example/site', 'nothing of it', str_repeat('x', 70000) . ' https://club.saltmarsh.example/site/é'];
    $rows = [];
    foreach ($texts as $i => $text) {
      $rows[] = "(" . (4 * $i) . ",'" . strtr(gzdeflate($text), ${escapes}) . "','utf-8,gzip')";
      $rows[] = "(" . (4 * $i + 1) . ",0x" . bin2hex(gzdeflate($text, 1)) . ",'utf-8,gzip')";
      $rows[] = "(" . (4 * $i + 2) . ",'" . strtr($text, ${escapes}) . "','utf-8')";
    }
    file_put_contents('old.sql', "CREATE TABLE \`text\` (\\n  \`old_id\` int,\\n  \`old_text\` mediumblob,\\n  \`old_flags\` tinyblob\\n);\\nINSERT INTO \`text\` VALUES " . implode(',', $rows) . ";\\n");
  `);
  const pair = ['--from', 'https://club.saltmarsh.example/site', '--to', 'https://saltmarshrowing.example'];
  const ran = await run(['rewrite', 'old.sql', ...pair, '--out', 'new.sql', '--json'], { cwd: root });
  assert.equal(ran.code, 0, ran.stderr);
  assert.equal(JSON.parse(ran.stdout).summary.totals.occurrences, 9);
  const seen = php(`
    preg_match_all("/\\\\((\\\\d+),(?:'((?:[^'\\\\\\\\]++|\\\\\\\\.)*+)'|0x([0-9a-f]+)),'([^']*)'\\\\)/s", file_get_contents('new.sql'), $rows, PREG_SET_ORDER);
    foreach ($rows as [, $id, $quoted, $hex, $flags]) {
      $value = $hex !== '' ? hex2bin($hex) : strtr($quoted, array_flip(${escapes}));
      echo $id, ' ', substr_count(str_contains($flags, 'gzip') ? gzinflate($value) : $value, 'https://saltmarshrowing.example'), "\\n";
    }
  `);
  assert.equal(
    seen,
    [0, 1, 2, 3].flatMap(i => [0, 1, 2].map(j => `${4 * i + j} ${i === 2 ? 0 : 1}\n`)).join(''),
  );
});
