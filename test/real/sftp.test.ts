import assert from 'node:assert/strict';
import { execFileSync, spawn } from 'node:child_process';
import {
  chmodSync,
  cpSync,
  existsSync,
  lstatSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  truncateSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { effort } from '../help/effort.js';
import { folder, operationsOf, type Ran, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { Relay } from '../help/relay.js';
import { treeOf } from '../help/tree.js';
import { until } from './database.js';
import { type OwnSsh, ownSsh } from './ssh.js';

const programs = ['sshd', 'ssh-keygen'];

function makeTree(root: string): void {
  const put = (path: string, content: string | Buffer, mode = 0o644, time = 1_500_000_000) => {
    mkdirSync(join(root, path, '..'), { recursive: true });
    writeFileSync(join(root, path), content);
    chmodSync(join(root, path), mode);
    utimesSync(join(root, path), time, time);
  };
  const odd = [
    "it's",
    'two\nlines',
    'a "b" $c `d` \\e',
    '🚣 boat',
    ' lead',
    '-rf',
    '*',
    'é',
    'x'.repeat(200),
    '~',
    '#',
    '%41',
  ];
  for (const [i, name] of odd.entries()) put(`odd/${name}`, `content ${i}`, [0o600, 0o644, 0o755][i % 3]);
  put('empty file', '');
  put('piece', Buffer.alloc(32 * 1024, 1));
  put('more', Buffer.alloc(32 * 1024 + 1, 2));
  put('large', Buffer.from(Array.from({ length: 3_000_000 }, (_, i) => (i * i) % 251)));
  for (let i = 0; i < 300; i++) put(`many/${i % 20}/file-${i}.txt`, `number ${i}\n`.repeat(i));
  mkdirSync(join(root, 'empty folder'), { mode: 0o750 });
  symlinkSync('large', join(root, 'link'));
  symlinkSync('../piece', join(root, 'odd/up'));
  mkdirSync(join(root, 'closed'));
  chmodSync(join(root, 'closed'), 0o500);
  for (const name of ['empty folder', 'odd', 'many', 'closed'])
    utimesSync(join(root, name), 1_400_000_000, 1_400_000_000);
}

interface FarMove {
  readonly ssh: OwnSsh;
  readonly move: string;
  readonly go: (...args: string[]) => Promise<Ran>;
}

/** A move of a plain tree from one far folder to another, over an SSH server of its own. */
async function farMove(
  t: TestContext,
  root: string,
  restricted: boolean,
  port?: number,
  sessions?: number,
): Promise<FarMove> {
  const ssh = await ownSsh(t, root, restricted, sessions);
  const far = `sftp://${ssh.user}@127.0.0.1:${port ?? ssh.port}${root}`;
  const login = `{ key: ${ssh.key}, host-key: "${ssh.fingerprint}" }`;
  const move = join(root, 'move');
  mkdirSync(move, { recursive: true });
  mkdirSync(join(root, 'new'), { recursive: true });
  writeFileSync(
    join(move, 'move.yaml'),
    `name: tree\nold: { address: https://a.example, files: "${far}/old", login: ${login} }\nnew: { address: https://b.example, files: "${far}/new/site", login: ${login} }\n`,
  );
  const env = { HOME: root };
  return {
    ssh,
    move,
    go: async (...args) => {
      const packed = await run(['pack', '--yes', ...args], { cwd: move, env });
      if (packed.code !== 0) return packed;
      const delivered = await run(['deliver', '--yes', '--mirror', ...args], { cwd: move, env });
      return { ...delivered, stderr: packed.stderr + delivered.stderr };
    },
  };
}

for (const restricted of [false, true]) {
  test(`a tree with everything in it goes over SFTP ${restricted ? 'without' : 'with'} a shell, and only what changed goes again`, {
    timeout: 600_000,
  }, async t => {
    if (!needs(t, ...programs)) return;
    const root = folder(t);
    makeTree(join(root, 'old'));
    const { go, move } = await farMove(t, root, restricted);
    const went = await go();
    assert.equal(went.code, 0, went.stderr + went.stdout);
    assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
    const packed = JSON.parse(readFileSync(join(move, 'results/pack.json'), 'utf8')).result;
    assert.equal(packed.way, restricted ? 'file by file' : 'as one stream');
    assert.deepEqual(
      readdirSync(join(root, 'new')).filter(name => name.startsWith('.')),
      [],
    );

    writeFileSync(join(root, 'old/many/3/new one.txt'), 'new');
    rmSync(join(root, 'old/many/4'), { recursive: true });
    const again = await go();
    assert.equal(again.code, 0, again.stderr);
    assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
    const second = JSON.parse(readFileSync(join(move, 'results/pack.json'), 'utf8')).result;
    assert.equal(second.kept, second.counts.files - 1);
    const checked = await run(['check', '--json'], { cwd: move, env: { HOME: root } });
    assert.equal(checked.code, 0, checked.stdout.slice(0, 2000));
    assert.equal((await run(['undo', '--yes'], { cwd: move, env: { HOME: root } })).code, 0);
    assert.deepEqual(readdirSync(join(root, 'new')), []);
  });
}

for (const restricted of [false, true]) {
  const many = effort(2_000, 10_000);
  const large = effort(2 ** 26, 2 ** 30);
  test(`${many} small files and a file of ${large} bytes go over SFTP ${restricted ? 'without' : 'with'} a shell`, {
    timeout: 600_000,
  }, async t => {
    if (!needs(t, ...programs)) return;
    const root = folder(t);
    // A listing that is longer than what is taken of one in one piece.
    const long = '-long'.repeat(44);
    for (let i = 0; i < 100; i++) {
      mkdirSync(join(root, 'old', `f${i}`), { recursive: true });
      for (let j = 0; j < many / 100; j++)
        writeFileSync(join(root, 'old', `f${i}`, `${j}${long}`), `${i} ${j}`);
    }
    writeFileSync(join(root, 'old/sparse'), '');
    truncateSync(join(root, 'old/sparse'), large);
    const { go } = await farMove(t, root, restricted);
    const went = await go();
    assert.equal(went.code, 0, went.stderr);
    assert.equal(lstatSync(join(root, 'new/site/sparse')).size, large);
    assert.equal(execFileSync('diff', ['-r', join(root, 'old'), join(root, 'new/site')]).toString(), '');
  });
}

test('a host that is not known, has another key, or refuses the login stops with code 3 and says why', async t => {
  if (!needs(t, ...programs)) return;
  const root = folder(t);
  makeTree(join(root, 'old'));
  const { ssh, move, go } = await farMove(t, root, false);
  const sheet = join(move, 'move.yaml');
  const text = readFileSync(sheet, 'utf8');
  const says = async (sheetText: string, expected: RegExp) => {
    writeFileSync(sheet, sheetText);
    const ran = await go();
    assert.equal(ran.code, 3, ran.stderr);
    assert.match(ran.stderr, expected);
    assert.ok(ran.stderr.trim().split('\n').length <= 3, ran.stderr);
  };
  const unknown = text.replaceAll(/, host-key: "[^"]+"/g, '');
  await says(unknown, new RegExp(`its key ${ssh.fingerprint.replace(/[+/]/g, '\\$&')} is not known`));
  await says(text.replaceAll(ssh.fingerprint, `SHA256:${'A'.repeat(43)}`), /the sheet says SHA256:AAAA/);
  const [, , blob] = ['', ...ssh.publicKey.split(' ')];
  mkdirSync(join(root, '.ssh'));
  const known = join(root, '.ssh/known_hosts');
  const other =
    execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-f', join(root, 'other')]) &&
    readFileSync(join(root, 'other.pub'), 'utf8').split(' ')[1];
  writeFileSync(known, `[127.0.0.1]:${ssh.port} ssh-ed25519 ${other}\n`);
  await says(unknown, /its key has changed to SHA256/);
  writeFileSync(known, `@revoked [127.0.0.1]:${ssh.port} ssh-ed25519 ${blob}\n`);
  await says(unknown, /revoked/);
  writeFileSync(known, `[127.0.0.1]:${ssh.port} ssh-ed25519 ${blob}\n`);
  execFileSync('ssh-keygen', ['-q', '-H', '-f', known]);
  await says(unknown.replaceAll(/key: [^ ]+/g, `key: ${join(root, 'other')}`), /refuses the login/);
  writeFileSync(sheet, unknown);
  assert.equal((await go()).code, 0);
  await says(text.replaceAll(`:${ssh.port}/`, ':9/'), /nobody listens there/);
  const secret = text
    .replaceAll(/sftp:\/\/\w+@/g, 'sftp://nobody:s3cret@')
    .replaceAll(/key: [^ ]+, host/g, 'host');
  writeFileSync(sheet, secret);
  const refused = await go();
  assert.equal(refused.code, 3, refused.stderr);
  assert.ok(
    !(refused.stdout + refused.stderr + readFileSync(join(move, 'journal.ndjson'), 'utf8')).includes(
      's3cret',
    ),
  );
});

for (const sessions of [1, 2, 4]) {
  test(`a host that lets a connection do ${sessions === 1 ? 'one thing' : `${sessions} things`} at once gives and takes all`, {
    timeout: 600_000,
  }, async t => {
    if (!needs(t, ...programs)) return;
    const root = folder(t);
    makeTree(join(root, 'old'));
    const { go } = await farMove(t, root, false, undefined, sessions);
    const went = await go();
    assert.equal(went.code, 0, went.stderr + went.stdout);
    assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
    assert.ok(!/connection to .* lost/i.test(went.stderr), went.stderr);
  });
}

test('a host behind another is reached through it', async t => {
  if (!needs(t, ...programs)) return;
  const root = folder(t);
  makeTree(join(root, 'old'));
  const { ssh, move, go } = await farMove(t, root, false);
  const jump = await ownSsh(t, join(root, 'jump'), false);
  const config = `Host jump\n  HostName 127.0.0.1\n  Port ${jump.port}\n  User ${jump.user}\n  IdentityFile ${jump.key}\n`;
  mkdirSync(join(root, '.ssh'));
  writeFileSync(join(root, '.ssh/config'), config);
  writeFileSync(
    join(root, '.ssh/known_hosts'),
    `[127.0.0.1]:${jump.port} ${jump.publicKey.split(' ').slice(0, 2).join(' ')}\n`,
  );
  const sheet = join(move, 'move.yaml');
  writeFileSync(sheet, readFileSync(sheet, 'utf8').replaceAll('{ key:', '{ through: jump, key:'));
  assert.equal((await go()).code, 0);
  assert.ok(existsSync(join(root, 'new/site/large')));
  await jump.stop();
  assert.equal((await go()).code, 3);
  await ssh.stop();
});

for (const [how, restricted, sessions] of [
  ['with a shell', false, 20],
  ['with a shell, one thing at once on a connection', false, 1],
  ['without a shell', true, 20],
] as const) {
  test(`the line is cut again and again ${how}: the transfer resumes, and the tree is the same`, {
    timeout: 600_000,
  }, async t => {
    if (!needs(t, ...programs)) return;
    const root = folder(t);
    makeTree(join(root, 'old'));
    const ssh = await ownSsh(t, join(root, 'behind'), restricted, sessions);
    const relay = new Relay(ssh.port);
    const port = await relay.listen();
    t.after(() => relay.close());
    const { move, go } = await farMove(t, root, restricted, port);
    const sheet = join(move, 'move.yaml');
    writeFileSync(
      sheet,
      readFileSync(sheet, 'utf8').replaceAll(
        /key: [^ ]+, host-key: "[^"]+"/g,
        `key: ${ssh.key}, host-key: "${ssh.fingerprint}"`,
      ),
    );
    relay.nextCut = () => (relay.cuts < 8 ? 400_000 + relay.cuts * 200_000 : Number.POSITIVE_INFINITY);
    relay.beginCutting();
    const went = await go();
    assert.equal(went.code, 0, went.stderr + went.stdout);
    assert.ok(relay.cuts >= 4, `${relay.cuts} cuts`);
    assert.match(went.stderr, /connection to 127\.0\.0\.1 was lost/);
    assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
  });
}

test('killed at any moment over SFTP and run again: the same tree, and nothing left over', {
  timeout: 250_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const root = folder(t);
  makeTree(join(root, 'old'));
  const { move } = await farMove(t, root, false);
  cpSync(join(root, 'old'), join(root, 'new/site'), { recursive: true });
  writeFileSync(join(root, 'new/site/stood here'), 'before');
  const at = { cwd: move, env: { HOME: root } };
  const all = {
    pack: await operationsOf(t, ['pack'], at),
    deliver: await operationsOf(t, ['deliver', '--yes'], at),
  };
  for (const part of [0.1, 0.25, 0.4, 0.55, 0.7, 0.85, 0.95]) {
    for (const step of ['pack', 'deliver'] as const) {
      const killAt = Math.ceil(all[step] * part);
      const ran = await run([step, '--yes', '--again'], { ...at, killAt });
      // A delivery that finds the crate half taken refuses; one that is done again has less to do.
      if (ran.code !== null && ran.code !== 2) assert.equal(ran.code, 0, ran.stderr);
    }
  }
  for (const step of ['pack', 'deliver']) {
    const ran = await run([step, '--yes'], { cwd: move, env: { HOME: root } });
    assert.equal(ran.code, 0, ran.stderr);
  }
  assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
  assert.equal((await run(['undo', '--yes'], { cwd: move, env: { HOME: root } })).code, 0);
  assert.deepEqual(readdirSync(join(root, 'new')), ['site']);
  assert.ok(existsSync(join(root, 'new/site/stood here')));
});

test('a key with a passphrase lets in, and so does an agent', async t => {
  if (!needs(t, ...programs, 'ssh-agent', 'ssh-add')) return;
  const root = folder(t);
  makeTree(join(root, 'old'));
  const { ssh, move } = await farMove(t, root, true);
  const agent = join(root, 'agent');
  const running = spawn('ssh-agent', ['-D', '-a', agent], { stdio: 'ignore' });
  t.after(() => running.kill());
  await until('the agent', () => existsSync(agent));
  const env = { HOME: root, SSH_AUTH_SOCK: agent };
  execFileSync('ssh-add', ['-q', ssh.key], { env: { ...process.env, ...env }, stdio: 'ignore' });
  execFileSync('ssh-keygen', ['-q', '-p', '-N', 'ebb & flow', '-f', ssh.key]);
  const sheet = join(move, 'move.yaml');
  const text = readFileSync(sheet, 'utf8');
  const pack = (login: string, more: Record<string, string>) => {
    writeFileSync(sheet, text.replaceAll(/key: [^ ]+, /g, login));
    return run(['pack', '--again'], { cwd: move, env: { HOME: root, ...more } });
  };
  assert.equal((await pack(`key: ${ssh.key}, `, {})).code, 3);
  const opened = await pack(`key: ${ssh.key}, passphrase: "\${KEY}", `, { KEY: 'ebb & flow' });
  assert.equal(opened.code, 0, opened.stderr);
  assert.equal((await pack('', {})).code, 3);
  const byAgent = await pack('', env);
  assert.equal(byAgent.code, 0, byAgent.stderr);
});
