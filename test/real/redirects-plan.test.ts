import assert from 'node:assert/strict';
import { chmodSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { apachePhp, cmsPrograms, cmsRules, installCms, makeDatabases, passwords } from './cms.js';
import { databaseForTests } from './database.js';
import { startApache } from './web-servers.js';

const started = databaseForTests();
const [oldAddress, newAddress] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'];
const posts = Number(process.env.ABLE_PORTER_ENTRIES ?? effort(150, 400));
const [renamed, removed] = [50, 20];
const apart = Math.floor(posts / 60);
const nouns = [
  'curlew',
  'avocet',
  'dunlin',
  'turnstone',
  'wigeon',
  'redshank',
  'sandpiper',
  'plover',
  'heron',
  'egret',
];
const deeds = [
  'wins',
  'loses',
  'launches',
  'repairs',
  'paints',
  'borrows',
  'races',
  'carries',
  'names',
  'sinks',
];
const things = [
  'the gig',
  'an oar',
  'the cup',
  'a lantern',
  'the slipway',
  'a rudder',
  'the pontoon',
  'a kettle',
  'the ebb',
  'a bridge',
];

/** The title of an entry: no two are the same, and neighbours are alike. */
const title = (n: number) =>
  `${nouns[n % 10]} ${deeds[Math.floor(n / 10) % 10]} ${things[Math.floor(n / 100) % 10]} ${n % 7 === 0 ? 'again' : 'today'}`;
const slug = (n: number) => `${title(n).replaceAll(' ', '-')}-${n}`;
const text = (n: number) =>
  `<p>Report ${n}: crew${(n * 7) % 950} and crew${(n * 13) % 950} met at mark${n}, rowed ${n % 40} lengths past buoy${(n * 3) % 950}, and ${deeds[n % 10]} before pier${(n * 11) % 950}.</p>`;
const date = (n: number) => `${2015 + (n % 9)}-${String(1 + (n % 12)).padStart(2, '0')}-05 10:00:00`;

test(`a real site of ${2 * posts} addresses whose permalinks changed: all are found, the renamed find their home, and all are redirected`, {
  timeout: 1_500_000,
}, async t => {
  if (!needs(t, ...cmsPrograms, 'apache2')) return;
  const database = started();
  makeDatabases(database);
  const root = folder(t);
  chmodSync(root, 0o755);
  const site = join(root, 'old/site');
  installCms(database, site, oldAddress);
  const rows = Array.from(
    { length: posts },
    (_, n) =>
      `(${1000 + n},1,'${date(n)}','${date(n)}','${text(n)}','${title(n)}','','publish','closed','closed','','${slug(n)}','','','${date(n)}','${date(n)}','',0,'${oldAddress}/?p=${1000 + n}',0,'post','',0)`,
  );
  database.sql(
    `INSERT INTO sr4_posts VALUES ${rows.join(',')}; UPDATE sr4_options SET option_value = '/%year%/%monthnum%/%postname%/' WHERE option_name = 'permalink_structure'; DELETE FROM sr4_options WHERE option_name = 'rewrite_rules';`,
    'old_club',
  );
  writeFileSync(join(site, '.htaccess'), cmsRules('/site/'));
  // It would ask for itself by its name, which leads nowhere.
  const configuration = readFileSync(join(site, 'wp-config.php'), 'utf8');
  writeFileSync(
    join(site, 'wp-config.php'),
    configuration.replace('<?php', "<?php\ndefine( 'DISABLE_WP_CRON', true );"),
  );
  const old = await startApache(t, join(root, 'old'), apachePhp);
  t.after(old.stop);
  mkdirSync(join(root, 'new/htdocs'), { recursive: true });
  const next = await startApache(t, join(root, 'new/htdocs'), apachePhp);
  t.after(next.stop);
  const move = join(root, 'move');
  mkdirSync(move);
  const sheet = (more: string) =>
    writeFileSync(
      join(move, 'move.yaml'),
      `name: club
old: { address: ${oldAddress}, reach: "http://127.0.0.1:${old.port}", files: ../old/site, database: { from: configuration } }
new:
  address: ${newAddress}
  reach: "http://127.0.0.1:${next.port}"
  files: ../new/htdocs
  database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${PW}", prefix: row_ }
check: { pages: 40 }
redirects: { server: apache, logs: [] ${more} }
`,
    );
  sheet('');
  const env = { PW: passwords.new };
  const step = async (args: string[], code = 0) => {
    const ran = await run([...args, '--json', '--quiet'], { cwd: move, env });
    assert.equal(ran.code, code, `${args.join(' ')}: ${ran.stdout.slice(0, 3000)}${ran.stderr.slice(-2000)}`);
    return JSON.parse(ran.stdout);
  };
  for (const one of ['pack', 'rewrite', 'deliver']) await step([one, '--yes']);

  // Somebody sets the new site up anew: another structure of permalinks, other names, and some entries less.
  const changed = Array.from({ length: renamed }, (_, i) => i * apart);
  const gone = Array.from({ length: removed }, (_, i) => i * apart + 1);
  database.sql(
    [
      `UPDATE row_options SET option_value = '/%postname%/' WHERE option_name = 'permalink_structure'`,
      `DELETE FROM row_options WHERE option_name = 'rewrite_rules'`,
      ...changed.map(
        (n, i) =>
          `UPDATE row_posts SET post_name = 'report-of-${things[i % 10]!.replace(/\W+/g, '-')}-${i}'${i % 5 === 0 ? `, post_title = CONCAT(post_title, ' (report)')` : ''} WHERE ID = ${1000 + n}`,
      ),
      ...gone.map(
        n =>
          `UPDATE row_posts SET post_status = 'trash', post_name = CONCAT(post_name, '__trashed') WHERE ID = ${1000 + n}`,
      ),
    ].join(';'),
    'new_club',
  );

  const path = (n: number) => `/${date(n).slice(0, 4)}/${date(n).slice(5, 7)}/${slug(n)}/`;
  const { result: first } = await step(['redirects', '--accept', '0.9']);
  assert.ok(first.known >= 2 * posts + 20, `${first.known} are known`);
  const known = readFileSync(join(move, 'redirects/pages.ndjson'), 'utf8')
    .split('\n')
    .filter(Boolean)
    .map(line => JSON.parse(line) as { page: string });
  const pages = new Set(known.map(({ page }) => page));
  for (let n = 0; n < posts; n++)
    for (const page of [path(n), `/?p=${1000 + n}`]) assert.ok(pages.has(page), `${page} is not known`);
  const proposal = first.proposals[0];
  assert.deepEqual([proposal?.from, proposal?.to], ['/:year(\\d{4})/:month(\\d{2})/:slug/', '/:slug/']);
  const list = readFileSync(join(move, 'redirects.csv'), 'utf8').split('\n');
  const homes = changed.filter((n, i) =>
    list.some(line =>
      line.startsWith(`${path(n)},/report-of-${things[i % 10]!.replace(/\W+/g, '-')}-${i}/,`),
    ),
  );
  t.diagnostic(
    `${first.known} addresses, ${homes.length} of ${renamed} renamed found their home, ${first.without.length} without`,
  );
  assert.ok(homes.length >= 45, `${homes.length} of ${renamed} found their home`);
  const wrongly = gone.filter(n => list.some(line => new RegExp(`^${path(n)},/`).test(line)));
  assert.deepEqual(wrongly, [], 'what was removed got a home');

  // What the administrator does then: the rule into the sheet, and what has no home into the list.
  sheet(`, rules: [{ from: ${JSON.stringify(proposal.from)}, to: ${JSON.stringify(proposal.to)} }]`);
  const filled = readFileSync(join(move, 'redirects.csv'), 'utf8').replace(
    /^([^,\n]+),,,(no page|"no page)/gm,
    '$1,,410,$2',
  );
  writeFileSync(join(move, 'redirects.csv'), filled);
  const { result: second } = await step(['redirects']);
  assert.deepEqual(second.without, []);
  const left = readFileSync(join(move, 'redirects.csv'), 'utf8').split('\n');
  const ruled = Array.from({ length: posts }, (_, n) => n).filter(
    n => !changed.includes(n) && !gone.includes(n),
  );
  assert.deepEqual(
    ruled.filter(n => left.some(line => line.startsWith(`${path(n)},`))),
    [],
    'what the rule leads on has lines',
  );
  const before = readFileSync(join(site, '.htaccess'), 'utf8');
  await step(['redirects', 'put', '--yes']);
  const tested = await step(['redirects', 'test']);
  assert.deepEqual([tested.result.wrong, tested.state], [[], 'done']);
  assert.ok(tested.result.asked >= 2 * posts, `${tested.result.asked} were asked for`);
  await step(['redirects', 'take-back', '--yes']);
  assert.equal(readFileSync(join(site, '.htaccess'), 'utf8'), before);
  const after = await step(['redirects', 'test'], 1);
  assert.equal(after.result.right, 0);
});
