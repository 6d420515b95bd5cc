import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { estimate } from '../../../../src/core/estimate.js';
import { probeSource, readProbe } from '../../../../src/core/site/survey/probe.js';
import { type KnownOfEnds, requirementsOf } from '../../../../src/core/site/survey/requirements.js';
import { compareVersions, databaseVersion } from '../../../../src/core/versions.js';

const known: KnownOfEnds = {
  family: 'wordpress',
  version: { version: '6.4', php: '7.0', mysql: '5.0' },
  extensions: ['mysqli'],
  take: { bytes: 5000, files: 100, links: 2 },
  place: { path: '/srv/x', writable: true, renames: true, links: true, freeBytes: 5000, freeFiles: 100 },
  web: { asked: 'http://192.0.2.1', server: 'x' },
  fits: false,
  language: {
    version: '8.2.1',
    extensions: ['mysqli'],
    memory: undefined,
    upload: 1,
    post: 1,
    time: 0,
    now: 0,
    folder: '/',
    free: 1,
  },
  database: {
    version: '10.11.6-MariaDB',
    charsets: ['utf8mb4'],
    collations: ['utf8mb4_bin'],
    packet: 1000,
    missingRights: [],
  },
  dump: { charsets: ['utf8mb4'], collations: ['utf8mb4_bin'], longestStatement: 999 },
};

test('a requirement is met at its limit, not met just beyond, and unknown where nobody was asked', () => {
  const of = (change: Partial<KnownOfEnds>) => {
    const { list, findings } = requirementsOf({ ...known, ...change });
    const no = list.filter(({ met }) => met === 'no').map(({ what }) => what);
    const unknown = list.filter(({ met }) => met === 'unknown').map(({ what }) => what);
    return { no, unknown, found: findings.map(({ level, code }) => `${level} ${code}`) };
  };
  assert.deepEqual(of({}), { no: [], unknown: [], found: [] });
  const place = { ...known.place! };
  assert.deepEqual(of({ place: { ...place, freeBytes: 4999 } }).found, ['stop room-too-small']);
  assert.deepEqual(of({ place: { ...place, freeFiles: 99 } }).found, ['stop files-too-many']);
  assert.deepEqual(of({ place: { ...place, renames: false } }).found, ['stop place-not-renamable']);
  assert.deepEqual(of({ place: { ...place, links: false } }).found, ['warn place-without-links']);
  assert.deepEqual(of({ place: { ...place, links: false }, take: { ...known.take, links: 0 } }).found, []);
  assert.deepEqual(of({ place: { ...place, writable: false } }).found, ['stop place-not-writable']);
  assert.deepEqual(of({ dump: { ...known.dump!, longestStatement: 1000 } }).found, ['stop packet-too-small']);
  assert.deepEqual(of({ language: undefined }).unknown, ['PHP', 'PHP extensions']);
  assert.deepEqual(of({ database: undefined }).unknown, [
    'database server',
    'character sets',
    'collations',
    'longest statement',
  ]);
  assert.deepEqual(of({ language: undefined, database: undefined }).found, []);
  assert.deepEqual(of({ place: { ...place, freeBytes: undefined, freeFiles: undefined } }).unknown, [
    'room for its bytes',
    'room for its files',
  ]);
});

test('versions are compared by their numbers', () => {
  assert.ok(compareVersions('10.3', '9.99') > 0 && compareVersions('8.1', '8.1.0') === 0);
  assert.ok(compareVersions('7.4.33-ubuntu', '8') < 0);
  assert.deepEqual(databaseVersion('5.5.5-10.6.12-MariaDB-log'), { kind: 'mariadb', version: '10.6.12' });
  assert.deepEqual(databaseVersion('8.0.36'), { kind: 'mysql', version: '8.0.36' });
});

test('more to carry never takes less time, and what was not tried is not claimed', () => {
  const rate = { perFile: 0.01, bytesPerSecond: 1e6 };
  fc.assert(
    fc.property(fc.nat(1e5), fc.nat(1e9), fc.nat(1e5), fc.nat(1e9), (files, bytes, moreFiles, moreBytes) => {
      const small = estimate({ files, bytes, read: rate, write: rate, dump: undefined });
      const large = estimate({
        files: files + moreFiles,
        bytes: bytes + moreBytes,
        read: rate,
        write: rate,
        dump: { bytes: 1, seconds: 1 },
      });
      for (const part of ['pack', 'rewrite', 'deliver', 'check', 'maintenance'] as const)
        assert.ok(large[part]! >= small[part]!);
    }),
  );
  const blind = estimate({ files: 1, bytes: 1, read: rate, write: undefined, dump: undefined });
  assert.ok(blind.pack !== undefined && blind.deliver === undefined && blind.maintenance === undefined);
});

test('a probe’s answer is read for what it is, whatever comes back', () => {
  assert.equal(readProbe(probeSource('a1')), 'source');
  fc.assert(fc.property(fc.string(), text => void readProbe(text)));
  fc.assert(fc.property(fc.jsonValue(), value => readProbe(JSON.stringify(value)) === undefined));
  const said = readProbe(
    '{"probe":1,"version":"8","extensions":["PDO"],"memory":"1G","upload":"2m","post":"-1"}',
  );
  assert.ok(said && said !== 'source');
  assert.deepEqual(
    [said.extensions, said.memory, said.upload, said.post],
    [['pdo'], 2 ** 30, 2 ** 21, undefined],
  );
});
