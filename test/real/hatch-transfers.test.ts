import assert from 'node:assert/strict';
import { createHash, randomBytes } from 'node:crypto';
import { chmodSync, mkdirSync, symlinkSync, utimesSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { asBytes, type ByteString, bytesOfText } from '../../src/core/bytes.js';
import type { DatabasePlace } from '../../src/core/database/place.js';
import type { FileEntry } from '../../src/core/files/entries.js';
import { joined, sql } from '../../src/core/sql/encoded-sql.js';
import { openSession } from '../../src/ends/database/server/session/open-session.js';
import { HatchFiles } from '../../src/ends/files/hatch/files.js';
import { LocalFiles } from '../../src/ends/files/local.js';
import { Hatch } from '../../src/ends/hatch/hatch.js';
import { unlimitedRate } from '../../src/steps/move/rate-limit.js';
import { transferFiles } from '../../src/steps/transfer/transfer.js';
import { effort } from '../help/effort.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { Relay } from '../help/relay.js';
import { treeOf } from '../help/tree.js';
import { databaseForTests } from './database.js';
import { type HostKind, hostPrograms, placeAt, startHost } from './hatch-hosts.js';
import { phpAside, servePhp } from './php-wasm.js';

const started = databaseForTests();
const signal = new AbortController().signal;

/** A hatch at a host, with a line that can be cut, and its web root as it sees it. */
async function opened(
  t: TestContext,
  start: HostKind | ((htdocs: string) => Promise<number>),
  isPlain = false,
) {
  const root = folder(t);
  chmodSync(root, 0o755);
  const htdocs = join(root, 'htdocs');
  mkdirSync(htdocs);
  const port = await (typeof start === 'string' ? startHost(t, start, htdocs) : start(htdocs));
  const relay = new Relay(port);
  const hatch = new Hatch(placeAt(t, htdocs, await relay.listen(), isPlain));
  t.after(async () => {
    await hatch.close();
    await relay.close();
  });
  return { htdocs, relay, hatch, end: new HatchFiles(hatch, new LocalFiles(htdocs), '') };
}

/**
 * Files and folders with what names, modes, times and sizes can have.
 * @param isText whether every name is UTF-8
 */
function difficultTree(at: string, many: number, isText = false): void {
  const names: Buffer[] = [
    Buffer.from('it\'s "quoted" ~ & é %41'),
    ...(isText ? [] : [Buffer.from([0x6c, 0xe9, 0x67, 0x61, 0x6c])]),
    Buffer.from('line\nend'),
    Buffer.from('x'.repeat(240)),
    Buffer.from('-rf'),
    Buffer.from('a b;c|d'),
  ];
  const below = join(at, 'deep'.repeat(20), 'deeper'.repeat(20), 'x'.repeat(100));
  mkdirSync(below, { recursive: true });
  mkdirSync(join(at, 'empty'), { mode: 0o750 });
  for (const name of names)
    writeFileSync(Buffer.concat([Buffer.from(`${below}/`), name]), `of ${name.toString('hex')}`);
  symlinkSync('../empty', join(at, 'deep'.repeat(20), 'link'));
  for (let i = 0; i < many; i++) {
    const inside = join(at, 'many', String(i % 37));
    mkdirSync(inside, { recursive: true });
    const file = join(inside, `${i}.txt`);
    writeFileSync(file, i % 5 === 0 ? '' : randomBytes(i % 3000));
    chmodSync(file, [0o644, 0o600, 0o755][i % 3]!);
    utimesSync(file, 1_600_000_000 + i, 1_600_000_000 + i);
  }
}

/** Carries everything from one end to another; gives the entries. */
async function carry(from: LocalFiles | HatchFiles, to: LocalFiles | HatchFiles): Promise<FileEntry[]> {
  const entries: FileEntry[] = [];
  for await (const entry of from.list(() => false, signal)) entries.push(entry);
  for (const { type, path, mode } of entries) if (type === 'folder') await to.makeFolder(path, mode);
  const files = entries.filter(({ type }) => type === 'file');
  const silent = { passed: () => {}, done: () => {} };
  const job = { from, to, progress: silent, rate: unlimitedRate, signal, begun: new Map() };
  const { sums } = await transferFiles(job, files);
  assert.equal(sums.size, files.length);
  for (const { type, path, to: target } of entries) if (type === 'link') await to.makeLink(path, target!);
  for (const entry of entries.reverse())
    if (entry.type === 'folder') await to.finishFolder(entry.path, entry);
  const there = await to.checksums(
    files.map(({ path }) => path),
    signal,
  );
  for (const { path } of files) assert.equal(there.get(path), sums.get(path), path);
  return entries;
}

for (const [kind, isPlain] of [
  ['apache-fpm', false],
  ['nginx-fpm', true],
] as const)
  test(`trees come back byte for byte through a hatch, over lines that are cut: ${kind}${isPlain ? ', sealed' : ''}`, {
    timeout: 900_000,
  }, async t => {
    if (!needs(t, ...hostPrograms)) return;
    const { htdocs, relay, end } = await opened(t, kind, isPlain);
    const [before, after] = [folder(t), folder(t)];
    difficultTree(before, effort(700, isPlain ? 2_000 : 10_000));
    writeFileSync(join(before, 'large.bin'), randomBytes(effort(12, 64) * 1024 * 1024));
    await end.entry(asBytes('wakes-it'));
    relay.nextCut = () => Math.floor(200_000 + Math.random() * 8_000_000);
    relay.beginCutting();
    const near = new LocalFiles(before);
    await carry(near, end);
    assert.deepEqual(
      treeOf(htdocs).filter(line => !/^\/\.?p[\da-f]{32}/.test(line)),
      treeOf(before),
    );
    await carry(end, new LocalFiles(after));
    relay.nextCut = () => Number.POSITIVE_INFINITY;
    assert.deepEqual(treeOf(after), treeOf(before));
    assert.ok(relay.cuts > 3, `${relay.cuts} cuts`);
    // Renames, exchanges and removals, each told from its like.
    const text = async (path: string) => {
      const chunks: Buffer[] = [];
      for await (const chunk of end.read(asBytes(path))) chunks.push(chunk);
      return Buffer.concat(chunks).toString();
    };
    for (const name of ['one', 'two']) await end.write(asBytes(name), Buffer.from(name));
    await end.exchange(asBytes('two'), asBytes('one'), asBytes('aside'));
    assert.deepEqual([await text('one'), await text('aside')], ['two', 'one']);
    await end.replace(asBytes('aside'), asBytes('one'));
    assert.equal(await text('one'), 'one');
    await assert.rejects(end.rename(asBytes('one'), asBytes('large.bin')));
    await end.remove(asBytes('many'));
    assert.equal(await end.entry(asBytes('many')), undefined);
    await end.remove(asBytes('never-there'));
    await assert.rejects(text('never-there'), /not there/);
  });

for (const version of ['7.2', '7.4', '8.4'])
  test(`the file does its work in PHP ${version}`, { timeout: 300_000 }, async t => {
    if (phpAside === undefined)
      return t.skip('ABLE_PORTER_PHP_WASM names no folder with other versions of PHP');
    for (const isPlain of [false, true]) {
      const { htdocs, hatch, end } = await opened(t, at => servePhp(t, version, at), isPlain);
      const [before, after] = [folder(t), folder(t)];
      // The file system of that build knows no other names.
      difficultTree(before, 60, true);
      writeFileSync(join(before, 'large.bin'), randomBytes(9 * 1024 * 1024));
      const facts = await hatch.facts();
      assert.ok(facts.php.startsWith(`${version}.`) && facts.writesAsOwner, facts.php);
      await carry(new LocalFiles(before), end);
      assert.deepEqual(
        treeOf(htdocs).filter(line => !/^\/\.?p[\da-f]{32}/.test(line)),
        treeOf(before),
      );
      await carry(end, new LocalFiles(after));
      assert.deepEqual(treeOf(after), treeOf(before));
      await end.remove(asBytes('many'));
      await assert.rejects(end.rename(asBytes('empty'), asBytes('large.bin')));
      await hatch.close();
      assert.deepEqual(
        treeOf(htdocs).filter(line => /^\/\.?p[\da-f]{32}/.test(line)),
        [],
      );
    }
  });

test('a file of a gigabyte passes in ranges, and its checksum over several requests', {
  timeout: 1_800_000,
}, async t => {
  if (!needs(t, ...hostPrograms)) return;
  const { end } = await opened(t, 'apache-fpm');
  const near = folder(t);
  const megabytes = effort(40, 1024);
  const piece = randomBytes(1024 * 1024);
  const hash = createHash('sha256');
  async function* content(): AsyncIterable<Buffer> {
    for (let i = 0; i < megabytes; i++) {
      piece.writeUInt32BE(i, 0);
      hash.update(piece);
      yield Buffer.from(piece);
    }
  }
  const path = bytesOfText('gig') as ByteString;
  const peak = process.memoryUsage().rss;
  await end.write(path, content(), { mode: 0o640, mtime: 1_650_000_000_000 });
  const sum = hash.digest('hex');
  assert.equal((await end.checksums([path], signal)).get(path), sum);
  await new LocalFiles(near).write(path, end.read(path));
  const back = createHash('sha256');
  for await (const chunk of new LocalFiles(near).read(path)) back.update(chunk);
  assert.equal(back.digest('hex'), sum);
  assert.deepEqual(
    [(await end.entry(path))!.mode, (await end.entry(path))!.mtime],
    [0o640, 1_650_000_000_000],
  );
  assert.ok(process.memoryUsage().rss - peak < 400 * 1024 * 1024, 'it never lies in memory as a whole');
});

for (const kind of ['apache-fpm', 'nginx-pdo'] as const)
  test(
    `tables of every kind of key are read in parts without missing a row, and what a session holds lasts: ${kind}`,
    {
      timeout: 900_000,
    },
    t => everyKey(t, kind),
  );

async function everyKey(t: TestContext, kind: HostKind): Promise<void> {
  if (!needs(t, ...hostPrograms, 'mariadbd', 'mariadb')) return;
  const database = started();
  const { hatch } = await opened(t, kind);
  const rows = effort(30_000, 600_000);
  const filler = 'repeat(md5(seq), 24)';
  database.sql(
    `CREATE DATABASE parts CHARACTER SET utf8mb4; CREATE OR REPLACE USER parts IDENTIFIED BY 'ebb'; GRANT ALL ON parts.* TO parts; USE parts;
     CREATE TABLE by_number (id bigint unsigned PRIMARY KEY, t text); INSERT INTO by_number SELECT seq * 7, ${filler} FROM seq_1_to_${rows};
     CREATE TABLE by_text (k varchar(60) COLLATE utf8mb4_unicode_ci PRIMARY KEY, t text); INSERT INTO by_text SELECT concat(char(97 + seq % 26), 'é', md5(seq)), ${filler} FROM seq_1_to_9000;
     CREATE TABLE by_latin (k varchar(60) CHARACTER SET latin1, n enum('b','a','c'), d datetime(3), t text, PRIMARY KEY (n, d, k)); INSERT INTO by_latin SELECT concat('ü\\'', seq), 1 + seq % 3, '2020-01-01' + interval seq % 50 second, ${filler} FROM seq_1_to_9000;
     CREATE TABLE by_bytes (k varbinary(20) PRIMARY KEY, t text); INSERT INTO by_bytes SELECT unhex(md5(seq)), ${filler} FROM seq_1_to_9000;
     CREATE TABLE by_nothing (a int, b varchar(10), t text); INSERT INTO by_nothing SELECT seq % 3, NULL, repeat('x', 700) FROM seq_1_to_6000; INSERT INTO by_nothing SELECT seq % 300, 'B', ${filler} FROM seq_1_to_3000;
     ANALYZE TABLE by_number, by_text, by_latin, by_bytes, by_nothing;
     CREATE TABLE by_surprise (id int PRIMARY KEY, t text) STATS_AUTO_RECALC=0; INSERT INTO by_surprise SELECT seq, ${filler} FROM seq_1_to_9000`,
  );
  const place: DatabasePlace = {
    host: '127.0.0.1',
    port: database.port,
    user: 'parts',
    password: 'ebb',
    name: 'parts',
  };
  const session = await openSession({ place, through: hatch });
  const straight = await openSession({ place: { ...place, tls: 'off' }, through: undefined });
  t.after(() => straight.close());
  const tables = {
    by_number: ['id', 't'],
    by_text: ['k', 't'],
    by_latin: ['k', 'n', 'd', 't'],
    by_bytes: ['k', 't'],
    by_nothing: ['a', 'b', 't'],
    // The server says that it is short.
    by_surprise: ['id', 't'],
  };
  const named = (name: string) => sql([`\`${name}\``] as unknown as TemplateStringsArray);
  const digest = async (one: typeof session, table: string, columns: string[]) => {
    const selected = columns.map(named);
    const lines: string[] = [];
    await one.each(
      sql`SELECT ${joined(selected)} FROM ${named(table)}`,
      cells => lines.push(createHash('sha1').update(cells.map(String).join('\0')).digest('base64')),
      { table, selected },
    );
    return [lines.length, createHash('sha256').update(lines.sort().join()).digest('hex')];
  };
  for (const [table, columns] of Object.entries(tables))
    assert.deepEqual(await digest(session, table, columns), await digest(straight, table, columns), table);

  // Settings, and a transaction over several requests: nothing stays until it is committed, and it is seen if others interfere.
  await session.run(sql`SET SESSION sql_mode = 'ANSI_QUOTES'`);
  assert.equal(await session.value(sql`SELECT @@sql_mode`), 'ANSI_QUOTES');
  await session.run(sql`START TRANSACTION`);
  assert.equal(
    await session.value(sql`SELECT t FROM by_number WHERE id = 7 FOR UPDATE`).then(text => text!.length),
    768,
  );
  await session.run(sql`UPDATE by_number SET t = 'ebb' WHERE id = 7`);
  assert.equal(await session.value(sql`SELECT t FROM by_number WHERE id = 7`), 'ebb');
  assert.notEqual(await straight.value(sql`SELECT t FROM by_number WHERE id = 7`), 'ebb');
  await session.run(sql`COMMIT`);
  assert.equal(await straight.value(sql`SELECT t FROM by_number WHERE id = 7`), 'ebb');
  await session.run(sql`START TRANSACTION`);
  await session.value(sql`SELECT t FROM by_number WHERE id = 14 FOR UPDATE`);
  await straight.run(sql`UPDATE by_number SET t = 'theirs' WHERE id = 14`);
  await assert.rejects(session.run(sql`UPDATE by_number SET t = 'ours' WHERE id = 14`), {
    code: 'ER_LOCK_DEADLOCK',
  });
  await session.run(sql`ROLLBACK`);
  assert.equal(await straight.value(sql`SELECT t FROM by_number WHERE id = 14`), 'theirs');
  const { failed, effects } = await session.together([
    { sql: sql`INSERT INTO by_bytes VALUES ('a', 'b')` },
    { sql: sql`INSERT INTO by_bytes VALUES ('a', 'b')` },
    { sql: sql`INSERT INTO by_bytes VALUES ('c', 'd')` },
  ]);
  assert.deepEqual([effects.length, failed?.at, (failed!.error as { errno: number }).errno], [1, 1, 1062]);
  assert.equal(await straight.value(sql`SELECT COUNT(*) FROM by_bytes WHERE k IN ('a', 'c')`), '1');
  database.sql('DROP DATABASE parts');
}
