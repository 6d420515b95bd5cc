import assert from 'node:assert/strict';
import { randomBytes } from 'node:crypto';
import {
  chmodSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs';
import { request } from 'node:http';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { asBytes } from '../../src/core/bytes.js';
import { readTar, tarBytes } from '../../src/core/files/tar.js';
import {
  type HatchAnswer,
  type HatchAsk,
  type HatchRequest,
  readAnswer,
  requestBytes,
} from '../../src/core/hatch/exchange.js';
import type { HatchKeys } from '../../src/core/hatch/keys.js';
import { hatchProgram } from '../../src/core/hatch/program.js';
import { readRows, statementBytes } from '../../src/core/hatch/rows.js';
import { installHatch } from '../../src/ends/hatch/install.js';
import { newHatchKeys } from '../../src/ends/hatch/new-keys.js';
import { isOfHatch } from '../../src/ends/hatch/place.js';
import { folder } from '../help/program.js';
import { needs } from '../help/real.js';
import { databaseForTests } from './database.js';
import { type HostKind, hostPrograms, placeAt, startHost } from './hatch-hosts.js';

const started = databaseForTests();
const signal = new AbortController().signal;
const fresh = { mode: 0o644, mtime: 1_700_000_000_000 };

interface Sent {
  readonly status: number;
  readonly type: string | undefined;
  readonly body: Buffer;
}

/** A hatch at a real host, and ways to ask it right and wrong. */
class TriedHatch {
  readonly root: string;
  readonly htdocs: string;
  readonly port: number;
  readonly name: string;
  readonly keys: HatchKeys;
  private readonly seals: boolean;
  number = Date.now();

  private constructor(
    root: string,
    port: number,
    installed: { name: string; keys: HatchKeys },
    seals: boolean,
  ) {
    this.root = root;
    this.htdocs = join(root, 'htdocs');
    this.port = port;
    this.name = installed.name;
    this.keys = installed.keys;
    this.seals = seals;
  }

  static async open(t: TestContext, kind: HostKind, seals = false): Promise<TriedHatch> {
    const root = folder(t);
    chmodSync(root, 0o755);
    const htdocs = join(root, 'htdocs');
    mkdirSync(join(htdocs, 'inner'), { recursive: true });
    writeFileSync(join(htdocs, 'index.html'), 'home');
    writeFileSync(join(htdocs, 'inner/a.txt'), 'inside');
    writeFileSync(join(root, 'secret.txt'), 'outside');
    const port = await startHost(t, kind, htdocs);
    return new TriedHatch(root, port, await installHatch(placeAt(t, htdocs, port, seals), signal), seals);
  }

  get file(): string {
    return join(this.htdocs, `${this.name}.php`);
  }

  request(ask: HatchAsk, data: Buffer = Buffer.alloc(0), change: Partial<HatchRequest> = {}): HatchRequest {
    const common = { hatch: this.name, number: this.number++, time: Date.now() / 1000, packs: false };
    return { ...common, seals: this.seals, ask, data, ...change };
  }

  bytes(...args: Parameters<TriedHatch['request']>): Buffer {
    return requestBytes(this.keys, this.request(...args));
  }

  send(body: Buffer | undefined, method = 'POST', path = `/${this.name}.php`): Promise<Sent> {
    return new Promise((resolve, reject) => {
      const headers = { host: 'club.example', ...(body ? { 'content-length': body.length } : {}) };
      const asking = request({ host: '127.0.0.1', port: this.port, path, method, headers }, answer => {
        const chunks: Buffer[] = [];
        answer.on('data', chunk => chunks.push(chunk));
        answer.on('end', () =>
          resolve({
            status: answer.statusCode!,
            type: answer.headers['content-type'],
            body: Buffer.concat(chunks),
          }),
        );
        answer.on('error', reject);
      });
      asking.on('error', reject);
      asking.end(body);
    });
  }

  async ask(ask: HatchAsk, data?: Buffer): Promise<HatchAnswer> {
    const asked = this.request(ask, data);
    const { status, body } = await this.send(requestBytes(this.keys, asked));
    assert.equal(status, 200);
    return readAnswer(this.keys, asked, body);
  }

  /** The word for a refusal. */
  async refusal(ask: HatchAsk, data?: Buffer): Promise<unknown> {
    return (await this.ask(ask, data)).result.error;
  }
}

const named = (text: string) => Buffer.from(text, 'latin1').toString('base64');
const seen = ({ status, type, body }: Sent) => [status, type, body.toString('latin1')];

test('whoever cannot sign gets the page for an unknown address, whatever is sent', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, ...hostPrograms)) return;
  const hatch = await TriedHatch.open(t, 'apache-fpm');
  const unknown = await hatch.send(undefined, 'GET', '/nothing-of-this-name.php');
  assert.equal(unknown.status, 404);
  const look = { do: 'look' };
  const good: Buffer = hatch.bytes(look, Buffer.from('index.html'));
  assert.equal((await hatch.send(good)).status, 200, 'a signed request is answered');
  const others = newHatchKeys(hatch.keys.algorithm, randomBytes(32));
  const [signature, head, ...rest] = hatch.bytes(look, Buffer.from('inner')).toString('latin1').split('\n');
  const lines = (...parts: (string | undefined)[]) => Buffer.from(parts.join('\n'), 'latin1');
  const wrong: Record<string, Buffer> = {
    nothing: Buffer.alloc(0),
    'a line': Buffer.from('hello\n'),
    'no signature': lines('', head, ...rest),
    'half a signature': lines(signature!.slice(0, 40), head, ...rest),
    'a bent signature': lines(
      signature!.replace(/^./, one => (one === 'A' ? 'B' : 'A')),
      head,
      ...rest,
    ),
    'a bent head': lines(signature, head!.replace('"packed":false', '"packed":true'), ...rest),
    'a bent body': Buffer.concat([lines(signature, head, ...rest), Buffer.from('x')]),
    'of others': requestBytes(others, hatch.request(look, Buffer.from('inner'))),
    'for another hatch': hatch.bytes(look, Buffer.from('inner'), { hatch: `p${'0'.repeat(32)}` }),
    old: hatch.bytes(look, Buffer.from('inner'), { time: Date.now() / 1000 - 400 }),
    'of tomorrow': hatch.bytes(look, Buffer.from('inner'), { time: Date.now() / 1000 + 86_400 }),
    'answered before': good,
    'of a number long past': hatch.bytes(look, Buffer.from('inner'), { number: hatch.number - 100_000 }),
    'a head without end': Buffer.alloc(100_000, 'a'),
    'a head that is a list': Buffer.from('AAAA\n[1,2]\n'),
  };
  for (const [what, body] of Object.entries(wrong))
    assert.deepEqual(seen(await hatch.send(body)), seen(unknown), what);
  for (const method of ['GET', 'PUT', 'DELETE', 'PATCH', 'OPTIONS'])
    assert.deepEqual(
      seen(await hatch.send(hatch.bytes(look, Buffer.from('index.html')), method)),
      seen(unknown),
      method,
    );
  assert.equal((await hatch.send(undefined, 'HEAD')).status, 404);
  const tooLong = await hatch.send(Buffer.alloc(3 * 1024 * 1024, 'a'));
  assert.ok([404, 413].includes(tooLong.status));
  // A number that is skipped is good once, and no more.
  const late = hatch.bytes(look, Buffer.from('index.html'));
  hatch.number += 200;
  assert.equal((await hatch.send(hatch.bytes(look, Buffer.from('index.html')))).status, 200);
  const answers = await Promise.all(Array.from({ length: 12 }, () => hatch.send(late)));
  assert.deepEqual(answers.map(({ status }) => status).sort(), [200, ...Array(11).fill(404)]);
  // Many at a time are answered each with its own.
  const names = Array.from({ length: 20 }, (_, i) => `n${i}`);
  for (const name of names) writeFileSync(join(hatch.htdocs, name), name);
  const read = await Promise.all(
    names.map(name => hatch.ask({ do: 'read', from: 0, most: 100 }, Buffer.from(name))),
  );
  assert.deepEqual(
    read.map(({ data }) => data.toString()),
    names,
  );
});

test('a hatch is closed by wrong signatures, and by its time, and leaves nothing', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, ...hostPrograms)) return;
  const hatch = await TriedHatch.open(t, 'nginx-fpm');
  const unknown = await hatch.send(undefined, 'GET', '/nothing.php');
  const forged = requestBytes(
    newHatchKeys(hatch.keys.algorithm, randomBytes(32)),
    hatch.request({ do: 'end' }),
  );
  let sent = 0;
  const work = async () => {
    while (sent++ < 10_000) {
      // When the file has just gone, PHP may say so before the web server does.
      const answer = await hatch.send(forged);
      if (sent < 40) assert.deepEqual(seen(answer), seen(unknown));
      else assert.equal(answer.status, 404);
    }
  };
  await Promise.all(Array.from({ length: 6 }, work));
  const left = (where: string) => readdirSync(where).filter(isOfHatch);
  assert.deepEqual([left(hatch.htdocs), left(hatch.root)], [[], []]);
  assert.equal((await hatch.send(hatch.bytes({ do: 'facts' }))).status, 404);

  const other = await TriedHatch.open(t, 'apache-module');
  const source = readFileSync(new URL('../../hatch/hatch.php', import.meta.url), 'utf8');
  const settings = {
    name: other.name,
    keys: other.keys,
    ends: Date.now() / 1000 - 1,
    seals: false,
    secretFile: '',
    unknown: { status: 404, type: 'text/html', page: Buffer.from('nothing here') },
  };
  writeFileSync(other.file, hatchProgram(source, settings));
  const over = await other.send(other.bytes({ do: 'facts' }));
  assert.deepEqual([over.status, over.body.toString()], [404, 'nothing here']);
});

test('nothing outside of the site is read or written, and nothing of the hatch itself', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, ...hostPrograms)) return;
  const hatch = await TriedHatch.open(t, 'apache-fpm');
  symlinkSync('..', join(hatch.htdocs, 'up'));
  symlinkSync('../secret.txt', join(hatch.htdocs, 'link.txt'));
  symlinkSync(hatch.root, join(hatch.htdocs, 'far'));
  const outside = [
    '../secret.txt',
    '/etc/passwd',
    'inner/../../secret.txt',
    './secret.txt',
    'up/secret.txt',
    'far/secret.txt',
    'far/new/x',
    'inner//a.txt',
    '',
    '..',
    'inner/a.txt\0.png',
  ];
  for (const path of outside) {
    const data = Buffer.from(path, 'latin1');
    if (!path.includes('\0') && path !== '') {
      const { result } = await hatch.ask({ do: 'tar', most: 1000 }, data);
      assert.deepEqual(result.missing ?? result.error, result.error === undefined ? [0] : 'path', path);
      assert.ok(['path', 'missing'].includes(String(await hatch.refusal({ do: 'look' }, data))), path);
    }
    assert.equal(await hatch.refusal({ do: 'read', from: 0, most: 100 }, data), 'path', path);
    assert.equal(
      await hatch.refusal({ do: 'write', path: named(path), from: 0 }, Buffer.from('evil')),
      'path',
      path,
    );
    for (const change of [
      ['remove', named(path)],
      ['folder', named(path), 0o755],
      ['rename', named('inner/a.txt'), named(path)],
      ['link', named(path), named('a')],
    ])
      assert.equal(await hatch.refusal({ do: 'change', changes: [change] }), 'path', `${change[0]} ${path}`);
  }
  const evil = (path: string) =>
    tarBytes({ path: asBytes(path), type: 'file', ...fresh }, Buffer.from('evil'));
  for (const path of ['../evil.txt', '/tmp/evil.txt', 'up/evil.txt', 'far/htdocs/../evil.txt'])
    assert.equal(await hatch.refusal({ do: 'untar' }, evil(path)), 'path', path);
  // A link at the place of a file is not followed, to read nor to write; nor is one made that leads out.
  assert.equal(await hatch.refusal({ do: 'read', from: 0, most: 100 }, Buffer.from('link.txt')), 'missing');
  await hatch.ask({ do: 'untar' }, evil('link.txt'));
  for (const to of ['/etc/passwd', '../x', 'a/../../x', ''])
    assert.equal(
      await hatch.refusal({ do: 'change', changes: [['link', named('made'), named(to)]] }),
      'path',
      to,
    );
  assert.equal(readFileSync(join(hatch.root, 'secret.txt'), 'utf8'), 'outside');
  assert.deepEqual(
    readdirSync(hatch.root)
      .filter(name => !isOfHatch(name))
      .sort(),
    ['htdocs', 'secret.txt'],
  );

  // The hatch itself.
  for (const own of [`${hatch.name}.php`, `.${hatch.name}.state`]) {
    assert.equal(await hatch.refusal({ do: 'read', from: 0, most: 100 }, Buffer.from(own)), 'path');
    assert.equal(
      await hatch.refusal({ do: 'write', path: named(own), from: 0 }, Buffer.from('<?php')),
      'path',
    );
  }
  const listed = (await hatch.ask({ do: 'list' }, Buffer.from('.'))).data.toString('latin1');
  assert.ok(listed.includes('index.html') && !listed.includes(hatch.name));
  assert.equal(await hatch.refusal({ do: 'eval' }), 'unknown');
  assert.equal(await hatch.refusal({ do: 'main' }), 'unknown');

  // A folder that is exchanged for a link to the outside all the while.
  const [real, shadow] = [join(hatch.htdocs, 'inner'), join(hatch.root, 'shadow')];
  mkdirSync(shadow);
  writeFileSync(join(shadow, 'a.txt'), 'outside');
  let isOver = false;
  const swapping = (async () => {
    while (!isOver) {
      renameSync(real, `${real}.aside`);
      symlinkSync(shadow, real);
      await new Promise(resolve => setImmediate(resolve));
      rmSync(real);
      renameSync(`${real}.aside`, real);
      await new Promise(resolve => setImmediate(resolve));
    }
  })();
  for (let i = 0; i < 300; i++) {
    const { data } = await hatch.ask({ do: 'tar', most: 1000 }, Buffer.from('inner/a.txt'));
    for (const { content } of readTar(data)) assert.equal(content.toString(), 'inside');
  }
  isOver = true;
  await swapping;
});

test('only statements that a move needs are run, on one database', { timeout: 300_000 }, async t => {
  if (!needs(t, ...hostPrograms, 'mariadbd', 'mariadb')) return;
  const database = started();
  database.sql(
    "CREATE DATABASE club; CREATE DATABASE other; CREATE TABLE other.t (v text); INSERT INTO other.t VALUES ('theirs'); CREATE TABLE club.t (v text); INSERT INTO club.t VALUES ('ours'); CREATE USER keeper IDENTIFIED BY 'ebb'; GRANT ALL ON *.* TO keeper WITH GRANT OPTION",
  );
  const hatch = await TriedHatch.open(t, 'apache-fpm');
  const place = {
    host: '127.0.0.1',
    port: database.port,
    socket: null,
    user: 'keeper',
    password: 'ebb',
    name: 'club',
  };
  const ask = async (...statements: string[]) => {
    const { result, data } = await hatch.ask(
      { do: 'sql', database: place, found: [] },
      statementBytes(statements.map(sql => ({ sql, kind: 'once' as const }))),
    );
    const rows: string[] = [];
    if (result.error === undefined)
      readRows(data, { row: cells => rows.push(cells.map(String).join()), end: () => {} });
    return result.error === undefined && result.errno === undefined
      ? rows
      : String(result.error ?? result.errno);
  };
  const refused = [
    'SELECT * FROM other.t',
    'SELECT * FROM `other` . `t`',
    'SELECT * FROM /* x */ `OTHER`/**/./**/t',
    'SELECT /*!50000 v FROM other.t */',
    'SELECT v FROM t UNION SELECT v FROM other . t',
    "SELECT '\\'' , v FROM other.t -- '",
    'INSERT INTO other.t SELECT v FROM t',
    'UPDATE t, other.t AS x SET t.v = x.v',
    'RENAME TABLE t TO other.t2',
    'CREATE TABLE t2 LIKE other.t',
    'CREATE VIEW w AS SELECT * FROM other.t',
    'DROP TABLE other.t',
    'SHOW TABLES FROM other',
    'SHOW CREATE TABLE other.t',
    'SELECT user FROM mysql.user',
    'SELECT 1; DROP TABLE t',
    "SELECT v INTO OUTFILE '/tmp/able-porter-evil' FROM t",
    "SELECT 'x' INTO DUMPFILE '/tmp/able-porter-evil'",
    "SELECT LOAD_FILE('/etc/passwd')",
    "LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE t",
    "CREATE TABLE x (a int) DATA DIRECTORY='/tmp'",
    "CREATE TABLE x (a int) ENGINE=FEDERATED CONNECTION='mysql://root@127.0.0.1/mysql/user'",
    'CREATE DATABASE x',
    'DROP DATABASE other',
    "CREATE USER x IDENTIFIED BY 'x'",
    'GRANT ALL ON *.* TO keeper',
    "SET PASSWORD = PASSWORD('x')",
    'SET GLOBAL general_log = 1',
    'SET SESSION sort_buffer_size = 100000, GLOBAL general_log = 1',
    'SET @@GLOBAL.general_log = 1',
    'SET @x = 1, @@global.general_log = 1',
    "PREPARE x FROM 'SELECT 1'",
    'EXECUTE x',
    'CALL x()',
    'HANDLER t OPEN',
    'USE other',
    'KILL 1',
    'FLUSH PRIVILEGES',
    'SHUTDOWN',
    "INSTALL PLUGIN x SONAME 'x.so'",
    "CREATE FUNCTION x RETURNS STRING SONAME 'x.so'",
    'SHOW GRANTS FOR root@localhost',
    'SHOW PROCESSLIST',
    '/*!50000 DROP */ DATABASE other',
    '',
  ];
  for (const sql of refused) assert.equal(await ask(sql), 'sql', sql);
  assert.equal(existsSync('/tmp/able-porter-evil'), false);
  assert.equal(
    database
      .sql('SELECT v FROM other.t; SHOW TABLES FROM club; SELECT @@GLOBAL.general_log')
      .toString()
      .trim(),
    'theirs\nt\n0',
  );
  const allowed: [string, string[] | string][] = [
    ['SELECT v FROM t', ['ours']],
    [
      "SELECT 'other.t', \"DROP DATABASE other\", 'it''s', '\\\\' FROM club.t AS x",
      ["other.t,DROP DATABASE other,it's,\\"],
    ],
    ['SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()', ['t']],
    ["SET NAMES utf8mb4, SESSION sql_mode = ''", []],
    ["INSERT INTO `t` VALUES ('a; b -- c # d /* e'), ('f')", []],
    ['CREATE TABLE `other` (`a``b` int, `c.d` int) COMMENT="/* no end"', []],
    ['INSERT INTO `other` VALUES (1, 2)', []],
    ['SELECT `other`.`c.d` FROM `other` AS `o` WHERE 1', '1054'],
    ['/*!40101 SET NAMES utf8mb4 */', []],
    ['RENAME TABLE `other` TO o2', []],
    ['DROP TABLE IF EXISTS o2', []],
    ['SELECT nothing', '1054'],
  ];
  for (const [sql, rows] of allowed) {
    // A table that has the name of another database cannot be told from it.
    const expected = sql.startsWith('SELECT `other`.') ? 'sql' : rows;
    assert.deepEqual(await ask(sql), expected, sql);
  }
  // Each request is a connection of its own, to the database that was opened first.
  const second = { ...place, name: 'other' };
  assert.equal(await hatch.refusal({ do: 'sql', database: second, found: [] }), 'denied');
  // What escapes a quote depends on the mode.
  assert.equal(await ask("SET sql_mode = 'NO_BACKSLASH_ESCAPES'", "SELECT '\\' , v FROM other.t"), 'sql');
  database.sql('DROP DATABASE club; DROP DATABASE other; DROP USER keeper');
});

test('over plain HTTP nobody reads what is asked or answered, and what is not sealed is refused', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, ...hostPrograms)) return;
  const hatch = await TriedHatch.open(t, 'nginx-fpm', true);
  const asked = hatch.request({ do: 'read', from: 0, most: 100 }, Buffer.from('inner/a.txt'));
  const bytes = requestBytes(hatch.keys, asked);
  const { body } = await hatch.send(bytes);
  assert.equal(readAnswer(hatch.keys, asked, body).data.toString(), 'inside');
  for (const text of ['inner', 'read']) assert.ok(!bytes.includes(text), text);
  assert.ok(!body.includes('inside'));
  const open = hatch.request({ do: 'facts' }, undefined, { seals: false });
  const answer = await hatch.send(requestBytes(hatch.keys, open));
  const { result } = readAnswer(hatch.keys, { ...open, seals: true }, answer.body);
  assert.equal(result.error, 'damaged');
});
