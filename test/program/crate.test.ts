import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import {
  copyFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { type Pack, pack } from 'tar-stream';
import { folder, type Ran, run } from '../help/program.js';
import { treeOf } from '../help/tree.js';

const passphrase = 'Ebb & flöd 7';

/** A small site, and two move folders: one where it is packed, one where it is delivered. */
function places(t: TestContext): {
  at: (...parts: string[]) => string;
  step: (where: 'here' | 'there', ...args: string[]) => Promise<Ran>;
} {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const path of ['old/sub', 'here', 'there', 'new']) mkdirSync(at(path), { recursive: true });
  writeFileSync(at('old/index.html'), 'a page');
  writeFileSync(at('old/sub/with space'), 'x'.repeat(300_000));
  writeFileSync(
    Buffer.concat([Buffer.from(`${at('old/sub')}/`), Buffer.from('latin \xe9', 'latin1')]),
    'bytes',
  );
  symlinkSync('../index.html', at('old/sub/link'));
  const sheet = (more: string) =>
    `name: boats\nold: { address: https://a.example, files: ../old }\nnew: { address: https://b.example, files: ../new/site }\n${more}`;
  writeFileSync(at('here/move.yaml'), sheet(''));
  writeFileSync(at('there/move.yaml'), sheet(''));
  return {
    at,
    step: (where, ...args) => run([...args, '--yes'], { cwd: at(where), env: { PHRASE: passphrase } }),
  };
}

test('a crate goes by hand as one tar or in parts, in the clear or encrypted, and arrives whole', async t => {
  const { at, step } = places(t);
  const packed = await step(
    'here',
    'pack',
    '--as',
    'tar',
    '--part-size',
    '100 kB',
    '--note',
    'Mind the weir',
  );
  assert.equal(packed.code, 0, packed.stderr);
  const parts = readdirSync(at('here')).filter(name => name.includes('.crate.tar'));
  assert.deepEqual(parts, [
    'boats.crate.tar.001',
    'boats.crate.tar.002',
    'boats.crate.tar.003',
    'boats.crate.tar.004',
  ]);
  // Ordinary programs open it.
  const joined = Buffer.concat(parts.map(name => readFileSync(at('here', name))));
  mkdirSync(at('by hand'));
  execFileSync('tar', ['-xf', '-', '-C', at('by hand')], { input: joined });
  assert.equal(readFileSync(at('by hand/files/sub/with space'), 'utf8').length, 300_000);
  assert.equal(
    readFileSync(at('by hand/files.ndjson'), 'utf8'),
    readFileSync(at('here/crate/files.ndjson'), 'utf8'),
  );

  for (const name of parts) copyFileSync(at('here', name), at('there', name));
  const delivered = await step('there', 'deliver', '--crate', 'boats.crate.tar.001');
  assert.equal(delivered.code, 0, delivered.stderr);
  assert.match(delivered.stderr, /Mind the weir/);
  assert.deepEqual(treeOf(at('new/site')), treeOf(at('old')));
  rmSync(at('there/boats.crate.tar.002'));
  const missing = await step('there', 'deliver', '--crate', 'boats.crate.tar.001');
  assert.equal(missing.code, 2);
  assert.match(missing.stderr, /part 2 of 4 is missing/);

  writeFileSync(
    at('here/move.yaml'),
    `${readFileSync(at('here/move.yaml'), 'utf8')}crate: { passphrase: "\${PHRASE}" }\n`,
  );
  const sealed = await step('here', 'pack', '--as', 'tar');
  assert.equal(sealed.code, 0, sealed.stderr);
  const file = at('here/boats.crate.tar.age');
  const whole = readFileSync(file);
  assert.match(readFileSync(file, 'latin1'), /^age-encryption\.org\/v1\n-> scrypt /);
  assert.ok(!readFileSync(file, 'latin1').includes('index.html'));
  const asked = await step('there', 'deliver', '--crate', file);
  assert.equal(asked.code, 2);
  assert.match(asked.stderr, /no terminal to ask/);
  writeFileSync(at('there/move.yaml'), readFileSync(at('here/move.yaml')));
  rmSync(at('new/site'), { recursive: true });
  rmSync(at('there/journal.ndjson'));
  const opened = await step('there', 'deliver', '--crate', file);
  assert.equal(opened.code, 0, opened.stderr);
  assert.deepEqual(treeOf(at('new/site')), treeOf(at('old')));
  const wrong = await run(['deliver', '--crate', file, '--yes'], {
    cwd: at('there'),
    env: { PHRASE: 'another' },
  });
  assert.equal(wrong.code, 2);
  assert.ok(!(wrong.stderr + wrong.stdout).includes('another'));
  assert.equal((await step('here', 'tidy')).code, 0);
  assert.deepEqual(
    readdirSync(at('here')).filter(name => name.includes('crate')),
    [],
    'nothing with what is in the site lies about',
  );
  writeFileSync(file, whole);
  truncateSync(file, readFileSync(file).length - 70_000);
  const cut = await step('there', 'deliver', '--crate', file);
  assert.equal(cut.code, 4, cut.stderr);
  assert.ok(
    existsSync(at('there/crate/crate.json')),
    'the crate that was there stays until the new one is whole',
  );
});

test('a crate is read again against its checksums, and every kind of damage is found', async t => {
  const { at, step } = places(t);
  assert.equal((await step('here', 'pack')).code, 0);
  const whole = await step('here', 'pack', '--verify', '--json');
  assert.equal(whole.code, 0, whole.stderr);
  assert.equal(JSON.parse(whole.stdout).files, 3);
  const damages: (() => void)[] = [
    () => writeFileSync(at('here/crate/files/index.html'), 'A page'),
    () => rmSync(at('here/crate/files/sub/link')),
    () => writeFileSync(at('here/crate/files/more'), ''),
    () =>
      writeFileSync(
        at('here/crate/files.ndjson'),
        `${readFileSync(at('here/crate/files.ndjson'), 'utf8')}\n`,
      ),
  ];
  for (const damage of damages) {
    rmSync(at('here/crate'), { recursive: true });
    assert.equal((await step('here', 'pack', '--again')).code, 0);
    damage();
    const found = await step('here', 'pack', '--verify');
    assert.equal(found.code, 4, found.stdout + found.stderr);
  }
});

test('a hostile crate is refused before anything of it is used', async t => {
  const { at, step } = places(t);
  await step('here', 'pack', '--as', 'tar');
  const hostile: Record<string, (tar: Pack) => void> = {
    absolute: tar => tar.entry({ name: '/tmp/evil' }, 'x'),
    climbing: tar => tar.entry({ name: 'files/../../evil' }, 'x'),
    outside: tar => tar.entry({ name: 'files/l', type: 'symlink', linkname: '../../..' }),
    'by way of a link': tar => {
      tar.entry({ name: 'files/l', type: 'symlink', linkname: 'x' });
      tar.entry({ name: 'files/l/evil' }, 'x');
    },
    hard: tar => tar.entry({ name: 'files/l', type: 'link', linkname: 'crate.json' }),
    device: tar => tar.entry({ name: 'files/d', type: 'character-device' }),
    twice: tar => {
      tar.entry({ name: 'files/a' }, 'x');
      tar.entry({ name: 'files/a' }, 'y');
    },
    clashing: tar => {
      tar.entry({ name: 'files/a' }, 'x');
      tar.entry({ name: 'files/A' }, 'y');
    },
    foreign: tar => tar.entry({ name: 'files.moved.ndjson' }, 'x'),
    'not on the list': tar => {
      for (const name of ['crate.json', 'files.ndjson'])
        tar.entry({ name }, readFileSync(at('here/crate', name)));
      tar.entry({ name: 'files/evil.php' }, 'x');
    },
  };
  for (const [name, fill] of Object.entries(hostile)) {
    const tar = pack();
    fill(tar);
    tar.finalize();
    const chunks: Buffer[] = [];
    for await (const chunk of tar as unknown as AsyncIterable<Buffer>) chunks.push(chunk);
    writeFileSync(at('there/evil.tar'), Buffer.concat(chunks));
    const ran = await step('there', 'deliver', '--crate', 'evil.tar');
    assert.equal(ran.code, 4, `${name}: ${ran.stderr}${ran.stdout}`);
    assert.ok(!existsSync(at('evil')) && !existsSync('/tmp/evil') && !existsSync(at('there/crate')), name);
  }
  writeFileSync(at('there/evil.tar'), 'no tar at all');
  assert.equal((await step('there', 'deliver', '--crate', 'evil.tar')).code, 4);
  assert.ok(!existsSync(at('new/site')));
});
