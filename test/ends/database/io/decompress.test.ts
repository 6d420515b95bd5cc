import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { gunzipSync, gzipSync } from 'node:zlib';
import { folder, run } from '../../../help/program.js';
import { needs } from '../../../help/real.js';

const rows = Array.from({ length: 40_000 }, (_, i) => `(${i},'https://a.example/${i}')`);
const dump = Buffer.from(`CREATE TABLE t (id int, v text);\nINSERT INTO t VALUES ${rows.join(',\n')};\n`);
const moved = dump.toString().replaceAll('a.example', 'b.example');

test('a dump is opened whatever compressed it, and damage and doubt are reported', async t => {
  if (!needs(t, 'bzip2', 'zip')) return;
  const root = folder(t);
  const at = (name: string) => join(root, name);
  writeFileSync(at('plain.sql'), dump);
  const inFolder = { cwd: root, stdio: 'ignore' as const };
  execFileSync('bzip2', ['-k', '-1', 'plain.sql'], inFolder);
  // As programs that pack with several threads write it: one stream after the other.
  const bzip2 = readFileSync(at('plain.sql.bz2'));
  const halves = [dump.subarray(0, 400_000), dump.subarray(400_000)].map(half =>
    execFileSync('bzip2', ['-c'], { input: half, maxBuffer: 1 << 26 }),
  );
  writeFileSync(at('twice.bz2'), Buffer.concat(halves));
  writeFileSync(at('twice.gz'), Buffer.concat([gzipSync(dump.subarray(0, 9)), gzipSync(dump.subarray(9))]));
  writeFileSync(at('READ.txt'), 'an export');
  execFileSync('zip', ['-q', 'export.zip', 'READ.txt', 'plain.sql'], inFolder);
  const rewrite = (input: string) =>
    run(
      [
        'rewrite',
        input,
        '--from',
        'https://a.example',
        '--to',
        'https://b.example',
        '--out',
        'out.sql',
        '--yes',
      ],
      {
        cwd: root,
      },
    );
  for (const name of ['plain.sql', 'plain.sql.bz2', 'twice.bz2', 'twice.gz', 'export.zip']) {
    const ran = await rewrite(name);
    assert.equal(ran.code, 0, `${name}: ${ran.stderr}`);
    assert.ok(readFileSync(at('out.sql'), 'utf8') === moved, name);
  }
  const piped = await run(
    ['rewrite', '-', '--from', 'https://a.example', '--to', 'https://b.example', '--out', 'out.sql.gz'],
    { cwd: root, input: bzip2 },
  );
  assert.equal(piped.code, 0, piped.stderr);
  assert.ok(gunzipSync(readFileSync(at('out.sql.gz'))).toString() === moved);

  const zip = readFileSync(at('export.zip'));
  const middle = Math.floor(zip.length / 2);
  writeFileSync(
    at('bent.zip'),
    Buffer.concat([zip.subarray(0, middle), Buffer.from('?????'), zip.subarray(middle + 5)]),
  );
  writeFileSync(at('short.zip'), zip.subarray(0, middle));
  writeFileSync(at('short.bz2'), bzip2.subarray(0, bzip2.length - 200));
  writeFileSync(
    at('bent.bz2'),
    Buffer.concat([bzip2.subarray(0, 5000), Buffer.from('?????'), bzip2.subarray(5005)]),
  );
  for (const name of ['bent.zip', 'short.zip', 'short.bz2', 'bent.bz2']) {
    const ran = await rewrite(name);
    assert.equal(ran.code, 4, `${name}: ${ran.stderr}`);
    assert.match(ran.stderr, /damaged|cut short/, name);
  }
  execFileSync('cp', ['plain.sql', 'other.sql'], inFolder);
  execFileSync('zip', ['-q', 'two.zip', 'plain.sql', 'other.sql'], inFolder);
  execFileSync('zip', ['-q', '-P', 'ebb', 'locked.zip', 'plain.sql'], inFolder);
  for (const [name, says] of [
    ['two.zip', /2 files in the archive/],
    ['locked.zip', /encrypted/],
  ] as const) {
    const ran = await rewrite(name);
    assert.equal(ran.code, 2, name);
    assert.match(ran.stderr, says);
  }
});
