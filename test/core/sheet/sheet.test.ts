import assert from 'node:assert/strict';
import { test } from 'node:test';
import { SheetError } from '../../../src/core/sheet/checked-yaml.js';
import { readSheet } from '../../../src/core/sheet/read.js';
import { writeSheet } from '../../../src/core/sheet/write.js';

const good = `name: club
old:
  address: https://old.example/site
  files: ./old
new:
  address: https://new.example
  files: ./new
  database: { server: "mysql://u@h/db", password: "\${PW}" }
`;
const none = () => undefined;

function mistakesOf(text: string): [number, string, string][] {
  try {
    readSheet(text, 'move.yaml', name => (name === 'PW' ? 'x' : undefined));
  } catch (error) {
    assert.ok(error instanceof SheetError, String(error));
    return error.mistakes.map(({ line, key, what }) => [line, key, what]);
  }
  return [];
}

test('a good sheet is read, with defaults and variables', () => {
  const sheet = readSheet(good, 'move.yaml', name => `<${name}>`);
  assert.equal(sheet.new.database?.password, '<PW>');
  assert.deepEqual(sheet.old.also, []);
  assert.deepEqual(sheet.take, { files: { without: [] }, database: { tables: { without: [] } } });
  assert.equal(readSheet(`${good}take: { files: false }\n`, 'move.yaml', () => 'x').take.files, false);
});

test('five mistakes are reported at once, each with its line', () => {
  const bad = `name: my club
old:
  adress: https://old.example
  address: ftp://old.example
  files: ./old
new:
  address: https://new.example?x=1
redirects: { server: iis }
rewrite:
  mail: perhaps
`;
  const mistakes = mistakesOf(bad);
  assert.deepEqual(
    mistakes.map(([line, key]) => [line, key]),
    [
      [1, 'name'],
      [3, 'old.adress'],
      [4, 'old.address'],
      [7, 'new.address'],
      [8, 'redirects.server'],
      [10, 'rewrite.mail'],
    ],
  );
  assert.match(mistakes[1]![2], /nearest known key is "address"/);
  assert.match(mistakes[3]![2], /query or a fragment/);
});

test('what is missing, unset or not YAML is reported with its line', () => {
  assert.deepEqual(
    mistakesOf('old: {}\nnew: { address: https://n.example }\n').map(([line, key, what]) => [
      line,
      key,
      what,
    ]),
    [
      [1, 'name', 'is missing'],
      [1, 'old.address', 'is missing'],
    ],
  );
  assert.throws(() => readSheet(good, 'm', none), /line 8: \$\{PW\}: is set neither/);
  assert.equal(mistakesOf('name: [\n')[0]![1], '');
  assert.equal(mistakesOf('- a\n').length, 1);
  assert.match(
    mistakesOf(good.replace('new.example', 'old.example/site').replace('./new', './old'))[0]![2],
    /nothing to move/,
  );
  assert.match(
    mistakesOf(`${good}rewrite: { pairs: [{ from: /a, to: https://b.example }] }\n`)[0]![2],
    /one is a path/,
  );
});

test('keys that every object has, and aliases that make much of little, are mistakes like others', () => {
  for (const key of ['__proto__', 'constructor', 'toString', 'hasOwnProperty'])
    for (const text of [`${good}${key}: { x: 1 }\n`, good.replace('new:\n', `new:\n  ${key}: 5\n`)])
      assert.deepEqual(
        mistakesOf(text).map(([, ...rest]) => rest),
        [[key, 'is not a known key']],
        text,
      );
  let laughs = `${good}a0: &a0 [x]\n`;
  for (let i = 1; i < 12; i++) laughs += `a${i}: &a${i} [${`*a${i - 1},`.repeat(9)}]\n`;
  for (const text of [laughs, `${good}a: &a [*a]\n`]) assert.match(String(mistakesOf(text)), /alias/i);
});

test('a sheet that start writes is read back with what it was given', () => {
  const text = writeSheet({
    name: 'club',
    oldAddress: 'https://old.example/site',
    also: ['http://tmp.example/~a'],
    oldFiles: '/srv/old # not a ${PW} $$ $',
    oldDump: 'old.sql.gz',
    newAddress: 'https://new.example',
    newFiles: './new',
    newDump: 'new.sql.gz',
    newServer: 'mysql://u@127.0.0.1:3306/db',
    newPrefix: 'row_',
    without: ['*.log', 'wp-content/cache/'],
    leave: [],
    webServer: 'nginx',
    oldRecord: '192.0.2.10',
    newRecord: '198.51.100.20',
  });
  const sheet = readSheet(text, 'move.yaml', () => 'secret');
  assert.equal(sheet.old.files, '/srv/old # not a ${PW} $$ $');
  assert.equal(sheet.new.database?.password, 'secret');
  assert.deepEqual(sheet.old.also, ['http://tmp.example/~a']);
  assert.deepEqual(sheet.take.files, { without: ['*.log', 'wp-content/cache/'] });
  assert.equal(sheet.redirects.server, 'nginx');
  assert.deepEqual(sheet.dns?.['address-records'], { old: ['192.0.2.10'], new: ['198.51.100.20'] });
  const spare = writeSheet({
    name: 'n',
    oldAddress: 'https://a.example',
    also: [],
    oldFiles: undefined,
    oldDump: 'a.sql',
    newAddress: 'https://b.example',
    newFiles: undefined,
    newDump: undefined,
    newServer: undefined,
    newPrefix: undefined,
    without: [],
    leave: [],
    webServer: undefined,
    oldRecord: undefined,
    newRecord: undefined,
  });
  assert.equal(readSheet(spare, 'm', none).new.database, undefined);
});

test('what the sheet asks of the DNS is one or a list, with its time zone, and in its place', () => {
  const withDns = (dns: string) =>
    readSheet(
      `name: n\nold: { address: "https://a.example" }\nnew: { address: "https://b.example" }\ndns: ${dns}\n`,
      'move.yaml',
      none,
    ).dns!;
  const { zone, when, key } = withDns(
    '{ zone: a.zone, when: 2026-12-05T22:00:00+01:00, key: { name: k, secret: AAAA } }',
  );
  assert.deepEqual([zone, when, key?.algorithm], [['a.zone'], '2026-12-05T22:00:00+01:00', 'hmac-sha256']);
  const bad: [dns: string, said: RegExp][] = [
    ['{ when: tomorrow }', /time with its zone/],
    ['{ when: 2026-12-05T22:00:00 }', /time with its zone/],
    ['{ address-records: { old: 192.0.2.300, new: 198.51.100.20 } }', /IP address/],
    ['{ server: ns1.a.example }', /dns:\/\//],
    ['{ resolvers: [one.example] }', /IP address/],
    ['{ short-ttl: 5 }', /short-ttl/],
    ['{ certificate: { directory: "http://a.example/" } }', /https:\/\//],
    ['{ zones: a.zone }', /nearest known key is "zone"/],
  ];
  for (const [dns, said] of bad) assert.throws(() => withDns(dns), said, dns);
});
