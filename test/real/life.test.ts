import assert from 'node:assert/strict';
import { appendFileSync, existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { get } from 'node:http';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { effort } from '../help/effort.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { cmsPrograms, installCms, makeDatabases, passwords, serve } from './cms.js';
import { databaseForTests, freePort, type OwnDatabase } from './database.js';

const started = databaseForTests();
const oldAddress = 'https://club.saltmarsh.example/site';
const newAddress = 'https://saltmarshrowing.example';
const host = 'saltmarshrowing.example';

/** What a visitor sees. */
type Sight = 'before' | 'moved' | 'maintenance' | string;

/** Asks a site twenty times a second for a page, and notes what comes, until it is told to stop. */
class Visitor {
  readonly seen = new Map<Sight, number>();
  private ended = false;
  private readonly asking: Promise<void>;

  constructor(t: TestContext, port: number, sightOf: (status: number, body: string) => Sight) {
    t.after(() => this.leave());
    this.asking = this.ask(port, sightOf);
  }

  private async ask(port: number, sightOf: (status: number, body: string) => Sight): Promise<void> {
    while (!this.ended) {
      const began = performance.now();
      const sight = await pageAt(port).then(
        ({ status, body }) => sightOf(status, body),
        error => `no answer: ${error.message}`,
      );
      this.seen.set(sight, (this.seen.get(sight) ?? 0) + 1);
      await new Promise(resolve => setTimeout(resolve, Math.max(0, 50 - (performance.now() - began))));
    }
  }

  async leave(): Promise<ReadonlyMap<Sight, number>> {
    this.ended = true;
    await this.asking;
    return this.seen;
  }
}

function pageAt(port: number): Promise<{ status: number; body: string }> {
  return new Promise((resolve, reject) => {
    get({ host: '127.0.0.1', port, path: '/', headers: { host } }, answer => {
      const chunks: Buffer[] = [];
      answer.on('data', chunk => chunks.push(chunk));
      answer.on('end', () =>
        resolve({ status: answer.statusCode ?? 0, body: Buffer.concat(chunks).toString() }),
      );
    }).on('error', reject);
  });
}

async function prepared(t: TestContext, database: OwnDatabase) {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  makeDatabases(database);
  installCms(database, at('old/site'), oldAddress);
  mkdirSync(at('new/htdocs'), { recursive: true });
  writeFileSync(at('new/htdocs/index.php'), '<?php echo "The host says welcome.";');
  mkdirSync(at('move'));
  writeFileSync(at('move/.env'), `NEW=\`${passwords.new}\`\n`, { mode: 0o600 });
  writeFileSync(
    at('move/move.yaml'),
    `name: club
old: { address: ${oldAddress}, files: ../old/site, database: { from: configuration } }
new:
  address: ${newAddress}
  files: ../new/htdocs
  database: { server: "mysql://new@127.0.0.1:${database.port}/new_club", password: "\${NEW}", prefix: row_ }
configure: { switch-off: ["*cache*"], search-engines: hide }
`,
  );
  const step = async (code: number, ...args: string[]) => {
    const ran = await run([...args, '--json'], { cwd: at('move') });
    assert.equal(ran.code, code, `${args.join(' ')}: ${ran.stdout.slice(0, 2000)}${ran.stderr}`);
    return ran.stdout === '' ? { stderr: ran.stderr } : JSON.parse(ran.stdout);
  };
  return { at, step, newSql: (sql: string) => database.sql(sql, 'new_club') };
}

test('the whole life of a move: what the new site writes is never lost, and a closed move is closed', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  const { at, step, newSql } = await prepared(t, database);
  database.sql('CREATE TABLE new_club.of_others (id int); INSERT INTO new_club.of_others VALUES (1)');
  await step(0, 'pack');
  await step(0, 'rewrite');
  await step(0, 'deliver', '--yes');
  // Somebody comments, edits a file and uploads one; the site itself writes a transient and a cron.
  newSql(
    "SET sql_mode=''; INSERT INTO row_comments (comment_post_ID, comment_author, comment_content, comment_date) VALUES (1, 'Ada', 'only here', NOW()); INSERT INTO row_options (option_name, option_value) VALUES ('_transient_tide', 'x') ",
  );
  const style = at('new/htdocs/wp-links-opml.php');
  appendFileSync(style, '// edited\n');
  writeFileSync(at('new/htdocs/wp-content/uploads/new.txt'), 'uploaded');
  const files = readFileSync(style, 'utf8');
  const stopped = await step(1, 'deliver', '--yes', '--again');
  const [written] = stopped.findings.filter(({ code }: { code: string }) => code === 'written-since');
  assert.match(written.what, /^1 row in 1 table \[1 in row_comments .* and 1 file \[wp-links-opml\.php/);
  assert.equal(newSql("SELECT COUNT(*) FROM row_comments WHERE comment_author = 'Ada'"), '1\n');
  // Asked for by name it goes on, and what is replaced comes back when that is asked for.
  await step(0, 'deliver', '--yes', '--replace-changes');
  assert.equal(newSql("SELECT COUNT(*) FROM row_comments WHERE comment_author = 'Ada'"), '0\n');
  assert.ok(existsSync(at('new/htdocs/wp-content/uploads/new.txt')));
  const kept = await step(0, 'undo', '--list');
  await step(0, 'undo', '--yes', '--keepsake', String(kept.at(-1).number));
  assert.equal(newSql("SELECT COUNT(*) FROM row_comments WHERE comment_author = 'Ada'"), '1\n');
  assert.equal(readFileSync(style, 'utf8'), files);
  // Undone, the new end is as it was, and what was written is kept.
  const undone = await step(0, 'undo', '--yes');
  assert.ok(undone.result.kept.length > 0);
  assert.equal(readFileSync(at('new/htdocs/index.php'), 'utf8'), '<?php echo "The host says welcome.";');
  const tables = () => newSql('SHOW TABLES').trim().split('\n');
  assert.deepEqual(
    tables().filter(name => !name.startsWith('able_porter_')),
    ['of_others'],
  );
  // Delivered again, checked and tidied, nothing of the move is left, and it is closed.
  await step(0, 'deliver', '--yes');
  await step(1, 'tidy', '--yes');
  await step(0, 'check');
  // A trial of the account's rights was killed.
  newSql('CREATE TABLE able_porter_trial (id int)');
  const tidied = await step(0, 'tidy', '--yes');
  assert.ok(tidied.result.proven.every(({ found }: { found: string[] }) => found.length === 0));
  assert.ok(tidied.result.remember.some((line: string) => /search engines/.test(line)));
  assert.ok(tables().every(name => !name.startsWith('able_porter_')));
  assert.deepEqual(readdirSync(at('new')), ['htdocs']);
  for (const command of [['undo'], ['go'], ['deliver']]) await step(2, ...command, '--yes');
  assert.equal(newSql('SELECT * FROM of_others'), '1\n');
});

test('visitors see the site of before, the moved site or a maintenance page, through a first and a second delivery', {
  timeout: 1_200_000,
}, async t => {
  if (!needs(t, ...cmsPrograms)) return;
  const database = started();
  database.sql(
    'DROP DATABASE IF EXISTS old_club; DROP DATABASE IF EXISTS new_club; DROP USER IF EXISTS old@localhost, new@localhost',
  );
  const { at, step } = await prepared(t, database);
  const rows = effort(20_000, 120_000);
  database.sql(
    `CREATE TABLE sr4_tides (id int AUTO_INCREMENT PRIMARY KEY, note text, height int, KEY (height)); INSERT INTO sr4_tides (note, height) SELECT CONCAT('${oldAddress}/', SHA2(seq, 256)), seq FROM seq_1_to_${rows}`,
    'old_club',
  );
  mkdirSync(at('old/site/wp-content/uploads/boats'));
  for (let i = 0; i < effort(500, 2600); i++)
    writeFileSync(at(`old/site/wp-content/uploads/boats/${i}.txt`), `boat ${i}`);
  const port = await freePort();
  await serve(t, at('new/htdocs'), '', port);
  await step(0, 'pack');
  await step(0, 'rewrite');
  const visitor = new Visitor(t, port, (status, body) => {
    if (status === 503) return 'maintenance';
    if (status === 200 && body.includes('The host says welcome')) return 'before';
    if (
      status === 200 &&
      /<\/html>/.test(body) &&
      body.includes('wp-content') &&
      !body.includes('Database Error')
    )
      return 'moved';
    return `${status} ${body.slice(0, 200)}`;
  });
  const first = await step(0, 'deliver', '--yes');
  await new Promise(resolve => setTimeout(resolve, 500));
  database.sql(
    "UPDATE sr4_tides SET note = CONCAT(note, '!') WHERE id % 500 = 0; UPDATE sr4_posts SET post_title = CONCAT(post_title, '!')",
    'old_club',
  );
  writeFileSync(at('old/site/wp-content/uploads/boats/0.txt'), 'another boat');
  await step(0, 'pack');
  await step(0, 'rewrite');
  const second = await step(0, 'deliver', '--yes');
  await new Promise(resolve => setTimeout(resolve, 500));
  const seen = await visitor.leave();
  t.diagnostic(
    `${JSON.stringify([...seen])}; swapped in ${first.result.swap.seconds} and ${second.result.swap.seconds} s, page for ${second.result.swap.closed} s`,
  );
  assert.deepEqual(
    [...seen.keys()].filter(sight => !['before', 'moved', 'maintenance'].includes(sight)),
    [],
  );
  assert.ok(seen.has('before') && seen.has('moved'));
  const { changing, changedRows, loaded } = second.result.database;
  assert.ok(
    changing >= 2 && loaded === 0 && changedRows >= rows / 500,
    JSON.stringify({ changing, changedRows, loaded }),
  );
  assert.equal(
    database.sql("SELECT COUNT(*) FROM row_tides WHERE note LIKE '%!'", 'new_club'),
    `${rows / 500}\n`,
  );
});
