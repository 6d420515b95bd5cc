import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import {
  chmodSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { asBytes } from '../../src/core/bytes.js';
import { FtpFiles } from '../../src/ends/files/ftp.js';
import { LocalFiles } from '../../src/ends/files/local.js';
import { FileTimes } from '../../src/ends/ftp/file-times.js';
import { FtpSession } from '../../src/ends/ftp/session.js';
import { trustIn } from '../../src/ends/trust/trust.js';
import { unlimitedRate } from '../../src/steps/move/rate-limit.js';
import { copy } from '../../src/steps/transfer/transfer.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { Relay } from '../help/relay.js';
import { converse } from '../help/terminal.js';
import { treeOf } from '../help/tree.js';
import { ownFtp } from './ftp.js';

const programs = ['proftpd', 'openssl'];

function makeTree(root: string): void {
  const put = (path: string | Buffer, content: string | Buffer, mode = 0o644) => {
    const at = Buffer.concat([Buffer.from(`${root}/`), Buffer.from(path as string)]);
    mkdirSync(at.subarray(0, at.lastIndexOf('/')), { recursive: true });
    writeFileSync(at, content);
    chmodSync(at, mode);
    utimesSync(at, 1_500_000_000, 1_500_000_000);
  };
  for (const [i, name] of [
    "it's",
    'a "b" $c `d`',
    '🚣 boat',
    ' lead',
    'trail ',
    '-rf',
    '*',
    'é',
    '~',
    '#',
    '%41',
    '[x]',
  ].entries())
    put(`odd/${name}`, `content ${i}`, [0o600, 0o644, 0o755][i % 3]);
  put(Buffer.from('odd/latin \xe9', 'latin1'), 'bytes');
  put('empty file', '');
  put('large', Buffer.from(Array.from({ length: 2_000_000 }, (_, i) => (i * i) % 251)));
  for (let i = 0; i < 120; i++) put(`many/${i % 12}/file-${i}.txt`, `number ${i}\n`.repeat(i));
  mkdirSync(join(root, 'empty folder'));
  for (const name of ['empty folder', 'odd', 'many'])
    utimesSync(join(root, name), 1_400_000_000, 1_400_000_000);
}

for (const tls of ['none', 'explicit'] as const) {
  test(`a tree goes over FTP ${tls === 'none' ? 'in the clear' : 'with TLS'}, what changed goes again, and undo takes it back`, {
    timeout: 600_000,
  }, async t => {
    if (!needs(t, ...programs)) return;
    const root = folder(t);
    makeTree(join(root, 'old'));
    const ftp = await ownFtp(t, root, tls);
    const scheme = tls === 'none' ? 'ftp' : 'ftps';
    const far = `${scheme}://${ftp.user}@127.0.0.1:${ftp.port}${root}`;
    const login = `{ password: "\${PW}"${tls === 'none' ? '' : `, host-key: "${ftp.fingerprint}"`} }`;
    const move = join(root, 'move');
    mkdirSync(move);
    mkdirSync(join(root, 'new/site'), { recursive: true });
    writeFileSync(join(root, 'new/site/index.html'), 'waiting');
    const sheet = `name: tree\nold: { address: https://a.example, files: "${far}/old", login: ${login} }\nnew: { address: https://b.example, files: "${far}/new/site", login: ${login} }\n`;
    writeFileSync(join(move, 'move.yaml'), sheet);
    const env = { PW: ftp.password };
    const step = async (...args: string[]) => run([...args, '--yes'], { cwd: move, env });
    const surveyed = await step('survey', '--json');
    assert.equal(surveyed.code, 0, surveyed.stderr + surveyed.stdout);
    const codes = (JSON.parse(surveyed.stdout).findings as { code: string }[]).map(({ code }) => code);
    assert.deepEqual(
      codes,
      [...(tls === 'none' ? ['password-in-clear', 'password-in-clear'] : []), 'new-folder-not-empty'].sort(),
    );
    for (const one of ['pack', 'deliver']) {
      const ran = await step(one);
      assert.equal(ran.code, 0, ran.stderr);
    }
    assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
    writeFileSync(join(root, 'old/many/3/new one.txt'), 'new');
    rmSync(join(root, 'old/many/4'), { recursive: true });
    utimesSync(join(root, 'old/many'), 1_400_000_000, 1_400_000_000);
    for (const one of ['pack', 'deliver --mirror', 'check']) {
      const ran = await step(...one.split(' '));
      assert.equal(ran.code, 0, ran.stderr + ran.stdout);
    }
    assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
    const { kept, counts } = JSON.parse(readFileSync(join(move, 'results/pack.json'), 'utf8')).result;
    assert.equal(kept, counts.files - 1);
    const undone = await step('undo');
    assert.equal(undone.code, 0, undone.stderr);
    assert.deepEqual(readdirSync(join(root, 'new')), ['site']);
    assert.deepEqual(readdirSync(join(root, 'new/site')), ['index.html']);

    writeFileSync(join(root, 'old/two\nlines'), 'x');
    symlinkSync('large', join(root, 'old/link'));
    const local = sheet.replace(`files: "${far}/old", login: ${login}`, 'files: ../old');
    writeFileSync(join(move, 'move.yaml'), local);
    const packedHere = await step('pack');
    assert.equal(packedHere.code, 0, packedHere.stderr);
    const odd = await step('deliver', '--json');
    const told = (JSON.parse(odd.stdout).findings as { code: string }[]).map(({ code }) => code).sort();
    assert.deepEqual(told, ['link-not-made', 'name-not-taken']);

    const refused = await run(['pack', '--again'], { cwd: move, env: { PW: 'wrong' } });
    assert.equal(refused.code, 0, 'the old files are here');
    writeFileSync(join(move, 'move.yaml'), sheet);
    const wrong = await run(['pack'], { cwd: move, env: { PW: 'wrong s3cret' } });
    assert.equal(wrong.code, 3);
    assert.match(wrong.stderr, /refuses the login/);
    assert.ok(!wrong.stderr.includes('s3cret'));
    writeFileSync(join(move, 'move.yaml'), sheet.replace(`${root}/old"`, '/htdocs"'));
    for (const one of ['survey', 'pack']) {
      const lost = await step(one);
      assert.equal(lost.code, 3);
      assert.match(lost.stderr, /no such folder; the login lands in \/\S+\n→ .*such as ftps?:\/\/porter@/);
    }
    if (tls === 'none') return;
    writeFileSync(join(move, 'move.yaml'), sheet.replaceAll(/, host-key: "[^"]+"/g, ''));
    const unknown = await step('pack');
    assert.equal(unknown.code, 3);
    assert.match(unknown.stderr, /its certificate SHA256:\S+ is not accepted: it is self-signed/);
    const [, line] = /host-key: (SHA256:(?:[\dA-F]{2}:){31}[\dA-F]{2})/.exec(unknown.stderr) ?? [];
    writeFileSync(join(move, 'move.yaml'), sheet.replaceAll(ftp.fingerprint, line!));
    const again = await step('pack', '--json');
    assert.equal(again.code, 0, again.stderr);
    // A name with a line end cannot be asked for; it is reported, and everything else is taken.
    const unnamed = (JSON.parse(again.stdout).findings as { code: string; what: string }[]).filter(
      ({ code }) => code === 'name-not-readable',
    );
    assert.match(unnamed.map(({ what }) => what).join(), /^Its name contains a line end[^,]*, so[^,]*$/);
    // At a terminal a person is asked once; what was accepted is kept.
    writeFileSync(join(move, 'move.yaml'), sheet.replaceAll(/, host-key: "[^"]+"/g, ''));
    await assert.rejects(
      converse(
        move,
        ['pack', '--again'],
        [[/certificate of .* it is self-signed[\s\S]*panel shows/, 'n']],
        env,
      ),
      /ended with 3, 0 questions/,
    );
    await converse(
      move,
      ['pack', '--again'],
      [[/certificate of .* it is self-signed[\s\S]*panel shows/, 'y']],
      env,
    );
    assert.equal((await step('pack', '--again')).code, 0);
    writeFileSync(join(move, 'move.yaml'), sheet.replaceAll(ftp.fingerprint, `SHA256:${'B'.repeat(42)}A`));
    assert.match((await step('pack')).stderr, /the sheet says SHA256:BBB/);
  });
}

test('the line is cut again and again over FTP: the transfer resumes, and the tree is the same', {
  timeout: 600_000,
}, async t => {
  if (!needs(t, ...programs)) return;
  const root = folder(t);
  makeTree(join(root, 'old'));
  const ftp = await ownFtp(t, root, 'none');
  const relay = new Relay(ftp.port);
  const port = await relay.listen();
  t.after(() => relay.close());
  const far = `ftp://${ftp.user}@127.0.0.1:${port}${root}`;
  const move = join(root, 'move');
  mkdirSync(move);
  mkdirSync(join(root, 'new'));
  writeFileSync(
    join(move, 'move.yaml'),
    `name: tree\nold: { address: https://a.example, files: "${far}/old", login: { password: "\${PW}" } }\nnew: { address: https://b.example, files: "${far}/new/site", login: { password: "\${PW}" } }\n`,
  );
  // Only control connections pass the relay; each cut ends all of them.
  const cutting = setInterval(() => {
    if (relay.cuts >= 6) return;
    relay.cuts++;
    relay.cut();
  }, 700);
  t.after(() => clearInterval(cutting));
  let said = '';
  for (const one of ['pack', 'deliver']) {
    const ran = await run([one, '--yes'], { cwd: move, env: { PW: ftp.password } });
    assert.equal(ran.code, 0, ran.stderr);
    said += ran.stderr;
  }
  clearInterval(cutting);
  assert.match(said, /connection to 127\.0\.0\.1 was lost/);
  assert.deepEqual(treeOf(join(root, 'new/site')), treeOf(join(root, 'old')));
});

test('a partial file is resumed where the server allows it, and sent whole where it does not', async t => {
  if (!needs(t, ...programs)) return;
  for (const tls of ['none', 'implicit'] as const) {
    const root = folder(t);
    for (const name of ['here', 'site']) mkdirSync(join(root, name));
    const { port, user, password, fingerprint } = await ownFtp(t, root, tls);
    const certificate = tls === 'none' ? undefined : fingerprint;
    const { certificates } = trustIn(root);
    const session = new FtpSession(
      { host: '127.0.0.1', port, user, password, tls, certificate },
      certificates,
    );
    t.after(() => session.close());
    const to = new FtpFiles(session, 'ftp://old.saltmarsh.example/site', join(root, 'site'));
    writeFileSync(join(root, 'here/page'), 'high water at seven');
    writeFileSync(join(root, 'site/page'), 'high water');
    const entry = { path: asBytes('page'), type: 'file', size: 19, mode: 0o640, mtime: 15e11 } as const;
    const progress = { passed: () => {}, done: () => {} };
    const job = { from: new LocalFiles(join(root, 'here')), to, progress, rate: unlimitedRate };
    const sum = await copy(job, entry, 10);
    assert.equal(sum, createHash('sha256').update('high water at seven').digest('hex'));
    assert.equal(readFileSync(join(root, 'site/page'), 'utf8'), 'high water at seven');
    assert.equal((await to.entry(entry.path))?.mtime, 15e11);
    assert.equal(to.canResume, tls === 'implicit');
  }
});

test('nothing changed is nothing sent, also where a server does not set the times of files', async t => {
  if (!needs(t, ...programs)) return;
  for (const setsTimes of [true, false]) {
    const root = folder(t);
    makeTree(join(root, 'old'));
    const ftp = await ownFtp(t, root, 'none', { setsTimes });
    mkdirSync(join(root, 'new'));
    const move = join(root, 'move');
    mkdirSync(move);
    writeFileSync(
      join(move, 'move.yaml'),
      `name: tree\nold: { address: https://a.example, files: ../old }\nnew: { address: https://b.example, files: "ftp://${ftp.user}@127.0.0.1:${ftp.port}${root}/new/site", login: { password: "\${PW}" } }\n`,
    );
    const step = (...args: string[]) =>
      run([...args, '--yes', '--json'], { cwd: move, env: { PW: ftp.password } });
    const deliver = async (...more: string[]) => {
      const ran = await step('deliver', ...more);
      assert.equal(ran.code, 0, ran.stderr);
      const { files } = JSON.parse(ran.stdout).result;
      return files.count - files.again;
    };
    assert.equal((await step('pack')).code, 0);
    const all = await deliver();
    assert.ok(all > 100);
    assert.equal(await deliver('--again'), 0, `times are set: ${setsTimes}`);
    assert.equal(await deliver('--by-content'), 0);
    const fresh = join(root, 'old/many/3/new one.txt');
    for (const [content, how] of [
      ['new', []],
      // Of the same size and time: packed where its content is asked for, and then delivered too.
      ['wet', ['--by-content']],
    ] as const) {
      writeFileSync(fresh, content);
      utimesSync(fresh, 1_600_000_000, 1_600_000_000);
      assert.equal((await step('pack', ...how)).code, 0);
      assert.equal(await deliver(), 1, content);
      assert.equal(readFileSync(join(root, 'new/site/many/3/new one.txt'), 'utf8'), content);
    }
  }
});

test('the time of a file is set by whichever command a server knows, and only where it then has it', async () => {
  const refused = Object.assign(new Error('500 Unknown command'), { name: 'FTPError' });
  for (const [knows, honest] of [
    [/^MFMT (\d{14}) \/a$/, true],
    [/^MDTM (\d{14}) \/a$/, true],
    [/^SITE UTIME (\d{14}) \/a$/, true],
    [/^SITE UTIME \/a (\d{14}) \1 \1 UTC$/, true],
    [/^MFMT (\d{14}) \/a$/, false],
    [/^nothing$/, true],
  ] as const) {
    let time = '20000101000000';
    let asked = 0;
    const client = {
      async send(command: string) {
        asked++;
        const set = knows.exec(command)?.[1];
        if (set !== undefined) time = honest ? set : time;
        else if (command !== 'MDTM /a') throw refused;
        return { code: 213, message: `213 ${time}` };
      },
    };
    const times = new FileTimes();
    const isKnown = honest && knows.source !== '^nothing$';
    await times.set(client, '/a', Date.UTC(2026, 10, 29, 16, 30));
    assert.deepEqual([times.areSet, time === '20261129163000'], [isKnown, isKnown]);
    asked = 0;
    await times.set(client, '/a', Date.UTC(2026, 10, 30));
    assert.deepEqual([asked, time === '20261130000000'], [isKnown ? 1 : 0, isKnown]);
  }
});
