import assert from 'node:assert/strict';
import { test } from 'node:test';
import { parseAddress } from '../../src/core/address/address.js';
import { asBytes } from '../../src/core/bytes.js';
import { planCutover } from '../../src/core/dns/plan.js';
import { UsageError } from '../../src/core/errors.js';
import { linkStaysInside, readEntryLine, staysInside } from '../../src/core/files/entries.js';
import { leftOut } from '../../src/core/files/patterns.js';
import { digestOf, type JournalRecord, readJournal, stateOf } from '../../src/core/journal.js';

test('addresses: what cannot be one is refused', () => {
  for (const text of [
    'old.example',
    'https://a.example/?x=1',
    'https://a.example/#x',
    'ftp://a.example',
    'https://u:p@a.example',
    'https://',
  ]) {
    assert.throws(() => parseAddress(text), UsageError, text);
  }
  assert.deepEqual(parseAddress('HTTPS://A.example.:443/b//c/'), {
    scheme: 'https',
    host: 'a.example',
    unicodeHost: 'a.example',
    port: undefined,
    segments: ['b', 'c'],
  });
});

test('a cutover under one name changes its record; a new name leaves the old one', () => {
  const records = { old: '192.0.2.10', new: '2001:db8::20' };
  const same = planCutover({
    oldHost: 'a.example',
    newHost: 'a.example',
    records,
    ttl: 86400,
    zone: undefined,
  });
  assert.deepEqual(same.records, [
    {
      host: 'a.example',
      before: 'a.example. 86400 IN A 192.0.2.10',
      after: 'a.example. 300 IN AAAA 2001:db8::20',
    },
  ]);
  assert.match(same.steps[0]!.when, /1 day before/);
  const other = planCutover({
    oldHost: 'a.example',
    newHost: 'b.example',
    records,
    ttl: undefined,
    zone: undefined,
  });
  assert.equal(other.records[0]!.before, undefined);
  assert.ok(other.keep.some(line => line.includes('MX')) && other.keep[0]!.includes('192.0.2.10'));
});

test('paths and links that lead outside are seen', () => {
  for (const path of ['', '/a', '../a', 'a/../b', 'a//b', './a', 'a/', 'a\0b'])
    assert.equal(staysInside(path), false, path);
  assert.ok(staysInside('a/..b/c d'));
  assert.ok(
    linkStaysInside('a/b/link', '../../c') &&
      !linkStaysInside('a/link', '../../c') &&
      !linkStaysInside('l', '/etc'),
  );
  assert.throws(() => readEntryLine('{"path":"../x","type":"file"}'), /leads out/);
  assert.throws(() => readEntryLine('{"path":"x"'), /not JSON/);
  assert.throws(() => readEntryLine('{"path":"a/l","type":"link","to":"../../etc"}'), /link leads out/);
});

test('gitignore patterns leave out folders and files', () => {
  const out = leftOut(['wp-content/cache/', '*.log', '!keep.log']);
  const of = (path: string, type: 'file' | 'folder' = 'file') => out({ path: asBytes(path), type });
  assert.ok(of('wp-content/cache', 'folder') && of('a/b.log') && !of('a/keep.log') && !of('cache', 'folder'));
});

test('the journal says where a step stands, past a line cut short, undo and tidy', () => {
  const line = (record: Partial<JournalRecord>) => JSON.stringify({ at: 't', ...record });
  const text = [
    line({ step: 'pack', event: 'done' }),
    line({ step: 'deliver', event: 'began' }),
    line({ step: 'deliver', event: 'did', did: {} }),
    '{"at":"t","st',
  ].join('\n');
  const records = readJournal(text);
  assert.equal(stateOf(records, 'deliver').state, 'begun');
  assert.equal(stateOf(records, 'check').state, 'not yet');
  const undone = readJournal(
    `${line({ step: 'deliver', event: 'done' })}\n${line({ step: 'undo', event: 'done' })}`,
  );
  assert.equal(stateOf(undone, 'deliver').state, 'not yet');
  assert.equal(
    stateOf([...records, ...readJournal(line({ step: 'tidy', event: 'done' }))], 'pack').state,
    'not yet',
  );
});

test('a digest does not depend on the order of keys', () => {
  assert.equal(digestOf({ a: 1, b: [{ c: 2, d: undefined }] }), digestOf({ b: [{ c: 2 }], a: 1 }));
  assert.notEqual(digestOf({ a: ['b', 'c'] }), digestOf({ a: ['b,c'] }));
});
