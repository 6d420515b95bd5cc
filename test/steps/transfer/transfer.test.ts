import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import {
  chmodSync,
  copyFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  symlinkSync,
  utimesSync,
  writeFileSync,
} from 'node:fs';
import { type AddressInfo, connect, createServer } from 'node:net';
import { networkInterfaces } from 'node:os';
import { join } from 'node:path';
import { pipeline } from 'node:stream';
import { test } from 'node:test';
import { parseAddress } from '../../../src/core/address/address.js';
import { type ByteString, textOf } from '../../../src/core/bytes.js';
import { EndError } from '../../../src/core/errors.js';
import type { FileEntry } from '../../../src/core/files/entries.js';
import { LocalFiles } from '../../../src/ends/files/local.js';
import { localPlace } from '../../../src/ends/files/place.js';
import { StandinFtpServer } from '../../../src/standins/hosting/ftp-server.js';
import { StandinSftpServer } from '../../../src/standins/hosting/sftp-server.js';
import { deliver } from '../../../src/steps/deliver.js';
import { unlimitedRate } from '../../../src/steps/move/rate-limit.js';
import { lookAtSite, treeOf as siteTree } from '../../../src/steps/move/read-site.js';
import type { StepRun } from '../../../src/steps/move/step.js';
import { pack } from '../../../src/steps/pack.js';
import { GentleRateLimit } from '../../../src/steps/transfer/rate-limit.js';
import { transferFiles } from '../../../src/steps/transfer/transfer.js';
import { alreadyThere } from '../../../src/steps/transfer/verify.js';
import { undo } from '../../../src/steps/undo.js';
import { kinds, moveBetween, standinHost } from '../../help/hosts.js';
import { folder } from '../../help/program.js';
import { treeOf } from '../../help/tree.js';

const usual = { byContent: false, mirror: false, sample: false };

/** @param times whether the far side keeps times to the second */
function makeTree(root: string, links: boolean): void {
  const put = (path: string, content: string | Buffer, mode = 0o644) => {
    mkdirSync(join(root, path, '..'), { recursive: true });
    writeFileSync(join(root, path), content);
    chmodSync(join(root, path), mode);
    utimesSync(join(root, path), 1_500_000_000, 1_500_000_000);
  };
  for (const name of ["it's", 'a "b" $c', '🚣', 'é', '-rf', '~'])
    put(`odd/${name}`, `of ${name}`, name === '-rf' ? 0o755 : 0o600);
  put('empty', '');
  put('index.php', 'first page');
  put('large', Buffer.from(Array.from({ length: 1_500_000 }, (_, i) => (i * i) % 251)));
  for (let i = 0; i < 40; i++) put(`many/${i % 4}/${i}.txt`, `${i}\n`.repeat(i));
  mkdirSync(join(root, 'empty folder'));
  if (links) symlinkSync('large', join(root, 'link'));
  for (const name of ['empty folder', 'odd', 'many', 'many/0', 'many/1', 'many/2', 'many/3'])
    utimesSync(join(root, name), 1_400_000_000, 1_400_000_000);
}

/** A tree as a server without a command for times leaves it: they are those of the writing. */
const withoutTimes = (tree: string[]) => tree.map(line => line.replace(/ 1[4567]\d{8}(?= |$)/, ''));

for (const kind of kinds) {
  test(`over ${kind}: a tree goes whole, only what changed goes again, and undo restores what was there`, async t => {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    const isSftp = kind.startsWith('sftp');
    makeTree(at('old/srv/site'), isSftp);
    mkdirSync(at('new/srv/www'), { recursive: true });
    writeFileSync(at('new/srv/www/index.html'), 'waiting');
    const old = await standinHost(t, at('old'), kind);
    const next = await standinHost(t, at('new'), kind);
    const { run } = await moveBetween(
      t,
      root,
      { files: `${old.address}/srv/site`, login: old.login },
      { files: `${next.address}/srv/www`, login: next.login },
    );
    const same = () => {
      const trees = [treeOf(at('new/srv/www')), treeOf(at('old/srv/site'))];
      assert.deepEqual(
        ...((kind === 'ftp of old' ? trees.map(withoutTimes) : trees) as [string[], string[]]),
      );
    };
    const packed = await pack(run);
    assert.equal(packed.result.way, kind === 'sftp with a shell' ? 'as one stream' : 'file by file');
    await deliver(run, usual);
    same();

    writeFileSync(at('old/srv/site/index.php'), 'second page');
    writeFileSync(at('old/srv/site/many/0/new'), 'new');
    rmSync(at('old/srv/site/many/1/1.txt'));
    utimesSync(at('old/srv/site/many/1'), 1_400_000_000, 1_400_000_000);
    writeFileSync(at('new/srv/www/written by the site'), 'stays');
    const again = await pack(run);
    assert.equal(again.result.kept, again.result.counts.files - 2);
    const updated = await deliver(run, usual);
    assert.deepEqual(
      updated.findings.map(({ code }) => code),
      ['files-gone-stay'],
    );
    const files = updated.result.files!;
    if (kind !== 'ftp of old') assert.equal(files.again, files.count - 2);
    assert.ok(existsSync(at('new/srv/www/many/1/1.txt')));
    const mirrored = await deliver(run, { ...usual, mirror: true });
    assert.equal(mirrored.result.files!.removed, 1);
    assert.equal(readFileSync(at('new/srv/www/written by the site'), 'utf8'), 'stays');
    rmSync(at('new/srv/www/written by the site'));
    same();

    await undo(run);
    assert.deepEqual(readdirSync(at('new/srv')), ['www']);
    assert.deepEqual(readdirSync(at('new/srv/www')), ['index.html']);
  });
}

for (const kind of kinds) {
  test(`over ${kind}: cut lines, refused connections and a slow host are waited out`, {
    timeout: 120_000,
  }, async t => {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    makeTree(at('old/site'), false);
    mkdirSync(at('new'));
    const old = await standinHost(t, at('old'), kind);
    const next = await standinHost(t, at('new'), kind);
    const { run, waited } = await moveBetween(
      t,
      root,
      { files: `${old.address}/site`, login: old.login },
      { files: `${next.address}/site`, login: next.login },
    );
    old.misbehaviour.dropAfter = 700_000;
    old.misbehaviour.most = 2;
    await pack(run);
    next.misbehaviour.dropAfter = 900_000;
    next.misbehaviour.refuse = new Set([next.misbehaviour.seen + 2]);
    next.misbehaviour.slow = 1;
    await deliver(run, usual);
    assert.equal(old.misbehaviour.drops + next.misbehaviour.drops, 2);
    assert.ok(
      waited.some(text => text.includes('was lost')),
      waited.join('\n'),
    );
    const trees = [treeOf(at('new/site')), treeOf(at('old/site'))].map(withoutTimes);
    assert.deepEqual(trees[0], trees[1]);
  });

  test(`over ${kind}: a full host and a host that lies about sizes are reported as such`, async t => {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    makeTree(at('old/site'), false);
    mkdirSync(at('new'));
    const next = await standinHost(t, at('new'), kind);
    const { run } = await moveBetween(
      t,
      root,
      { files: at('old/site') },
      { files: `${next.address}/site`, login: next.login },
    );
    await pack(run);
    next.misbehaviour.room = 400_000;
    await assert.rejects(deliver(run, usual), (error: Error & { exitCode?: number }) => {
      assert.equal(error.exitCode, 5);
      assert.match(error.message, /disk is full|disk or quota may be full/);
      return true;
    });
    assert.ok(!existsSync(at('new/site')), 'nothing half-done is served');
    next.misbehaviour.room = Number.POSITIVE_INFINITY;
    await deliver(run, usual);
    assert.deepEqual(withoutTimes(treeOf(at('new/site'))), withoutTimes(treeOf(at('old/site'))));
    // What is wrong about sizes cannot make damage look right.
    next.misbehaviour.sizeLie = 3;
    await deliver({ ...run, again: true }, usual);
    assert.deepEqual(withoutTimes(treeOf(at('new/site'))), withoutTimes(treeOf(at('old/site'))));
  });
}

test('a file that grew is taken whole, also after a pack that was interrupted before its turn', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  makeTree(at('old/site'), true);
  const old = await standinHost(t, at('old'), 'sftp');
  const { run } = await moveBetween(
    t,
    root,
    { files: `${old.address}/site`, login: old.login },
    { files: at('new/site') },
  );
  await pack(run);
  writeFileSync(at('old/site/large'), Buffer.alloc(2_000_000, 'ebb'));
  writeFileSync(at('old/site/empty'), 'no longer');
  const stop = new AbortController();
  const oneByOne = { ...unlimitedRate, atOnce: 1, streams: 1 };
  const events = ({ type }: { type: string }) => type === 'progress' && stop.abort();
  await assert.rejects(pack({ ...run, events, rate: oneByOne, signal: stop.signal }), { name: 'AbortError' });
  await pack(run);
  for (const name of ['large', 'empty'])
    assert.ok(
      readFileSync(run.move.crate.at(`files/${name}`)).equals(readFileSync(at('old/site', name))),
      name,
    );
});

test('where listing takes long, files are taken before all are listed, and progress says that there are more', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  mkdirSync(at('old/site/a'), { recursive: true });
  for (let i = 0; i < 260; i++) writeFileSync(at('old/site/a', `${i}`), `${i}`);
  // Each is known only when the one above is listed.
  mkdirSync(at('old/site', 'z/'.repeat(40)), { recursive: true });
  writeFileSync(at('old/site', 'z/'.repeat(40), 'last'), 'last');
  const old = await standinHost(t, at('old'), 'sftp');
  const { run } = await moveBetween(
    t,
    root,
    { files: `${old.address}/site`, login: old.login },
    { files: at('new') },
  );
  old.misbehaviour.slow = 2;
  const told: { done: number; of: number; more: boolean }[] = [];
  const events: StepRun['events'] = event => {
    if (event.type === 'progress' && event.files) told.push({ ...event.files, more: event.more ?? false });
  };
  await pack({ ...run, events });
  assert.ok(
    told.some(({ done, of, more }) => more && done > 0 && of < 261),
    JSON.stringify(told),
  );
  assert.deepEqual(told.at(-1), { done: 261, of: 261, more: false });
  assert.deepEqual(treeOf(run.move.crate.at('files')).length, treeOf(at('old/site')).length);
});

test('a file that came whole, and had not got its time when the pack was killed, is not sent again', async t => {
  for (const kind of ['sftp', 'ftp'] as const) {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    makeTree(at('old/site'), false);
    const old = await standinHost(t, at('old'), kind);
    const { run } = await moveBetween(
      t,
      root,
      { files: `${old.address}/site`, login: old.login },
      { files: at('new') },
    );
    const { crate } = run.move;
    await pack(run);
    copyFileSync(crate.at('files.ndjson'), crate.at('begun.ndjson'));
    utimesSync(crate.at('files/large'), 1_600_000_000, 1_600_000_000);
    // Were it sent again, it would come otherwise.
    const before = readFileSync(at('old/site/large'));
    writeFileSync(at('old/site/large'), Buffer.alloc(before.length));
    utimesSync(at('old/site/large'), 1_500_000_000, 1_500_000_000);
    await pack({ ...run, again: true });
    assert.ok(readFileSync(crate.at('files/large')).equals(before), kind);
    assert.equal(statSync(crate.at('files/large')).mtimeMs, 1_500_000_000_000);
  }
});

test('files that were whole at the new end, but without mode or time, when a delivery was interrupted get them', async t => {
  for (const kind of ['sftp with a shell', 'sftp', 'ftp'] as const) {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    makeTree(at('old'), kind !== 'ftp');
    mkdirSync(at('new/srv/www'), { recursive: true });
    const next = await standinHost(t, at('new'), kind);
    const { run } = await moveBetween(
      t,
      root,
      { files: at('old') },
      { files: `${next.address}/srv/www`, login: next.login },
    );
    await pack(run);
    const damaged = run.move.crate.at('files/many/3/39.txt');
    const whole = readFileSync(damaged);
    writeFileSync(damaged, Buffer.alloc(whole.length));
    await assert.rejects(deliver(run, usual), /not what the crate says/);
    writeFileSync(damaged, whole);
    const incoming = '.able-porter.tree/www.incoming';
    const left = (name: string) => at('new/srv', incoming, name);
    for (const name of ['large', 'empty', 'odd/-rf']) {
      chmodSync(left(name), 0o600);
      utimesSync(left(name), 1_600_000_000, 1_600_000_000);
    }
    // Only where a checksum costs no transfer are all looked at that have the right time.
    if (kind === 'sftp with a shell') chmodSync(left('index.php'), 0o600);
    await deliver(run, usual);
    assert.deepEqual(treeOf(at('new/srv/www')), treeOf(at('old')), kind);
  }
});

test('a web root that cannot be renamed is filled file by file, and undo empties it again', async t => {
  for (const kind of ['ftp', 'sftp'] as const) {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    makeTree(at('old/site'), false);
    mkdirSync(at('new/site/was'), { recursive: true });
    writeFileSync(at('new/site/index.html'), 'waiting');
    writeFileSync(at('new/site/was/there'), 'before');
    const before = treeOf(at('new/site'));
    const next = await standinHost(t, kind === 'ftp' ? at('new/site') : at('new'), kind);
    const refused = () => Object.assign(new Error('permission denied'), { code: 'EACCES' });
    const place = kind === 'ftp' ? '/' : '/site';
    if (kind === 'sftp') next.misbehaviour.forbids = path => /^\/(?:site)?$|^\/\./.test(path) && refused();
    const { run } = await moveBetween(
      t,
      root,
      { files: at('old/site') },
      { files: `${next.address}${place}`, login: next.login },
    );
    await pack(run);
    const first = await deliver(run, usual);
    assert.deepEqual(
      first.findings.map(({ code }) => code),
      ['waiting-not-asked', 'root-not-renamable'],
    );
    const without = (tree: string[]) => tree.filter(line => !line.includes('.able-porter'));
    assert.deepEqual(without(treeOf(at('new/site'))), treeOf(at('old/site')));
    assert.equal(statSync(at('new/site/.able-porter.tree')).mode & 0o777, 0o700);
    writeFileSync(at('old/site/index.php'), 'second');
    await pack(run);
    await deliver(run, usual);
    assert.equal(readFileSync(at('new/site/index.php'), 'utf8'), 'second');
    await undo(run);
    assert.deepEqual(treeOf(at('new/site')), before);
  }
});

test('what is taken: nothing larger than the sheet says, changed content of the same size and time when asked, gently', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  makeTree(at('old/site'), false);
  const old = await standinHost(t, at('old'), 'ftp');
  const { run } = await moveBetween(
    t,
    root,
    { files: `${old.address}/site`, login: old.login },
    { files: at('new') },
    'take: { files: { larger-than: 1 MB } }\n',
  );
  const codes = ({ findings }: { findings: readonly { code: string }[] }) => findings.map(({ code }) => code);
  const first = await pack(run);
  assert.deepEqual(codes(first), ['files-left-out-large', 'name-refused-by-windows']);
  assert.match(first.findings[0]!.what, /large \(1\.5 MB\)/);
  assert.ok(!existsSync(at('move/crate/files/large')));
  writeFileSync(at('old/site/index.php'), 'FIRST PAGE');
  utimesSync(at('old/site/index.php'), 1_500_000_000, 1_500_000_000);
  await pack({ ...run, again: true });
  assert.equal(readFileSync(at('move/crate/files/index.php'), 'utf8'), 'first page');
  const exact = await pack(run, { byContent: true });
  assert.equal(exact.result.kept, exact.result.counts.files - 1);
  assert.equal(readFileSync(at('move/crate/files/index.php'), 'utf8'), 'FIRST PAGE');

  const rate = new GentleRateLimit();
  const began = performance.now();
  await Promise.all([rate.take(100_000), rate.take(100_000), rate.take(100_000)]);
  assert.ok(performance.now() - began >= 250, 'a rate holds for all that is carried at once');
  rmSync(at('move/crate'), { recursive: true });
  await pack({ ...run, rate, again: true });
  await deliver(run, usual);
  rmSync(at('old/site/large'));
  assert.deepEqual(treeOf(at('new')), treeOf(at('old/site')));
});

test('entries that are asked for together are the same as one by one, also while all is being listed', async t => {
  const names = ['index.php', 'none', 'many/0/4.txt', 'many/none', 'none/at all', 'link', 'large/none'];
  for (const [kind, more] of [...kinds.map(kind => [kind, []] as const), [kinds[0], ['way/~']] as const]) {
    const root = folder(t);
    makeTree(join(root, 'host/site'), true);
    symlinkSync('odd', join(root, 'host/site/way'));
    const host = await standinHost(t, join(root, 'host'), kind);
    const { run } = await moveBetween(
      t,
      root,
      { files: `${host.address}/site`, login: host.login },
      { files: join(root, 'new') },
    );
    // So a listing by one command has them sooner.
    host.misbehaviour.slow = 30;
    const files = run.move.oldFiles!.open();
    const paths = [...names, ...more] as ByteString[];
    const listing = (async () => {
      for await (const entry of files.list(() => false, run.signal)) assert.ok(entry);
    })();
    const together = await files.entriesAt!(paths);
    await listing;
    const wanted = await Promise.all(paths.map(path => files.entry(path)));
    const told = (entries: typeof together) =>
      entries.map(one => one && [one.path, one.type, one.size, one.mode, one.mtime, one.to]);
    assert.deepEqual(told(together), told(wanted), kind);
    assert.deepEqual(
      wanted.map(entry => entry !== undefined),
      [true, false, true, false, false, true, false, ...more.map(() => true)],
    );
  }
});

test('a password is given where the host asks for it in its own words, and FTP goes over IPv6', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  makeTree(at('old/site'), false);
  const account = { user: 'porter', password: "p'w %é", asks: true };
  const ssh = new StandinSftpServer(at('old'), account, false);
  const ftp = new StandinFtpServer(at('new'), account);
  mkdirSync(at('new'));
  const sshPort = await ssh.listen();
  // A machine without IPv6 shows the rest all the same.
  const six = Object.values(networkInterfaces()).some(all => all?.some(({ address }) => address === '::1'));
  const ftpPort = await ftp.listen(six ? '::1' : '127.0.0.1');
  t.after(() => Promise.all([ssh.close(), ftp.close()]));
  const { run } = await moveBetween(
    t,
    root,
    {
      files: `sftp://porter@127.0.0.1:${sshPort}/site`,
      login: `{ password: "\${PW}", host-key: "${ssh.fingerprint}" }`,
    },
    { files: `ftp://porter@${six ? '[::1]' : '127.0.0.1'}:${ftpPort}/site`, login: '{ password: "${PW}" }' },
  );
  await pack(run);
  await deliver(run, usual);
  assert.deepEqual(treeOf(at('new/site')), treeOf(at('old/site')));
});

test('a remote host that stops answering is noticed, waited for, and its files are resumed', {
  timeout: 120_000,
}, async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  makeTree(at('old/site'), false);
  const old = await standinHost(t, at('old'), 'ftp');
  const { run, waited } = await moveBetween(
    t,
    root,
    { files: `${old.address}/site`, login: old.login },
    { files: at('new') },
  );
  const events: string[] = [];
  const packing = pack({
    ...run,
    events: event => {
      if (event.type !== 'progress' || events.push(event.what) > 1) return;
      // From now on nobody answers; those who come again find it as it was.
      old.misbehaviour.slow = 1_000_000;
      setTimeout(() => {
        old.misbehaviour.slow = 0;
      }, 15_000);
    },
  });
  await packing;
  assert.ok(
    waited.some(text => text.includes('was lost')),
    waited.join('\n'),
  );
  await deliver(run, usual);
  assert.deepEqual(treeOf(at('new')), treeOf(at('old/site')));
});

test('a host that resets connections in their first moment is tried again', async t => {
  const root = folder(t);
  makeTree(join(root, 'host/site'), true);
  const host = await standinHost(t, join(root, 'host'), 'sftp');
  const target = Number(new URL(host.address).port);
  let resets = 0;
  const relay = createServer(near => {
    if (resets < 2) {
      resets++;
      near.once('data', () => near.resetAndDestroy());
      return;
    }
    const far = connect(target, '127.0.0.1');
    pipeline(near, far, near, () => {});
  });
  await new Promise<void>(resolve => relay.listen(0, '127.0.0.1', resolve));
  t.after(() => relay.close());
  const { port } = relay.address() as AddressInfo;
  const { run, waited } = await moveBetween(
    t,
    root,
    { files: `${host.address.replace(`${target}`, `${port}`)}/site`, login: host.login },
    { files: join(root, 'new') },
  );
  await pack(run);
  assert.equal(waited.filter(text => /ended the connection; trying again/.test(text)).length, 2);
  assert.deepEqual(readdirSync(run.move.crate.at('files')), readdirSync(join(root, 'host/site')));
});

test('read back in part: a truncated file is found by its size, and the sample is reported', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  makeTree(at('old'), false);
  for (let i = 0; i < 120; i++) writeFileSync(at('old', `page-${i}`), `page ${i}`);
  mkdirSync(at('new'));
  const next = await standinHost(t, at('new'), 'sftp');
  const { run } = await moveBetween(
    t,
    root,
    { files: at('old') },
    { files: `${next.address}/site`, login: next.login },
  );
  await pack(run);
  let cut = 0;
  next.misbehaviour.loses = path => path.endsWith('page-77') && cut++ === 0;
  const { findings } = await deliver(run, { ...usual, sample: true });
  assert.equal(cut, 2, 'it is sent again');
  assert.deepEqual(
    findings.filter(({ code }) => code !== 'name-refused-by-windows').map(({ code }) => code),
    ['read-back-sample'],
  );
  assert.deepEqual(treeOf(at('new/site')), treeOf(at('old')));
});

test('checksums that fail while files pass are reported when these have passed', async t => {
  const root = folder(t);
  mkdirSync(join(root, 'old'));
  for (let i = 0; i < 20; i++) writeFileSync(join(root, 'old', `${i}`), `${i}`);
  class Far extends LocalFiles {
    override readonly far = true as false;
    override async checksums(): Promise<never> {
      throw new EndError({ doing: 'Adding up', cause: 'the far side is tired', remedy: 'Wait' });
    }
    async readMany(paths: readonly ByteString[]) {
      const { read } = this;
      return async function* (this: Far) {
        for (const path of paths) {
          await new Promise(resolve => setTimeout(resolve, 5));
          yield { path, content: read.call(this, path) };
        }
      }.call(this);
    }
  }
  const [from, to] = [new Far(join(root, 'old')), new LocalFiles(join(root, 'new'))];
  const entries: FileEntry[] = [];
  for await (const entry of from.list(() => false, new AbortController().signal)) entries.push(entry);
  let done = 0;
  const progress = { passed: () => {}, done: () => done++ };
  const signal = new AbortController().signal;
  const job = { from, to, signal, begun: new Map(), rate: unlimitedRate, progress };
  await assert.rejects(transferFiles(job, entries), /the far side is tired/);
  assert.equal(done, 20);
});

/** An end that sends something else of its files than it says they are. */
class LyingFiles extends LocalFiles {
  how: 'half' | 'endless' | 'once half' | 'grown' = 'half';
  reads = 0;

  override async *read(path: ByteString, from = 0): AsyncIterable<Buffer> {
    this.reads++;
    const whole: Buffer[] = [];
    for await (const chunk of super.read(path, from)) whole.push(chunk);
    const content = Buffer.concat(whole);
    if (this.how === 'half' || (this.how === 'once half' && this.reads === 1))
      yield content.subarray(0, content.length / 2);
    else yield content;
    while (this.how === 'endless') yield Buffer.alloc(1 << 18);
  }
}

test('a file of which less or more comes than there is is not taken for whole', async t => {
  const root = folder(t);
  mkdirSync(join(root, 'from'));
  mkdirSync(join(root, 'to'));
  writeFileSync(join(root, 'from/tide'), 'high water at noon\n'.repeat(50));
  const path = 'tide' as ByteString;
  const take = async (how: LyingFiles['how'], entry?: FileEntry) => {
    const from = new LyingFiles(join(root, 'from'));
    from.how = how;
    const listed = entry ?? (await from.entry(path))!;
    const progress = { passed: () => {}, done: () => {} };
    const job = {
      begun: new Map(),
      from,
      to: new LocalFiles(join(root, 'to')),
      signal: AbortSignal.timeout(20_000),
      progress,
      rate: unlimitedRate,
    };
    return transferFiles(job, [listed]);
  };
  await assert.rejects(take('half'), /ends it early each time, as if that was all \(475 of 950 bytes came\)/);
  await assert.rejects(take('endless'), /more comes than the 950 B/);
  await take('once half');
  assert.equal(statSync(join(root, 'to/tide')).size, 950);
  // What has really grown since it was listed is taken as it is.
  const entry = (await new LocalFiles(join(root, 'from')).entry(path))!;
  writeFileSync(join(root, 'from/tide'), Buffer.alloc(3 << 20));
  await take('grown', entry);
  assert.equal(statSync(join(root, 'to/tide')).size, 3 << 20);
});

test('what never ends or waits for somebody is not read, and a configuration that includes itself ends', async t => {
  const root = folder(t);
  mkdirSync(join(root, 'wp-includes'));
  execFileSync('mkfifo', [join(root, 'pipe')]);
  symlinkSync('/dev/zero', join(root, 'zero'));
  const files = new LocalFiles(root);
  for (const name of ['pipe', 'zero'] as ByteString[])
    await assert.rejects(async () => {
      for await (const _ of files.read(name));
    }, /not a regular file/);
  const include = 'include __FILE__;'.repeat(4);
  writeFileSync(join(root, 'wp-load.php'), '<?php');
  writeFileSync(
    join(root, 'wp-config.php'),
    `<?php ${include} define('DB_NAME', 'club'); $table_prefix = 'wp_';`,
  );
  symlinkSync('../pipe', join(root, 'wp-includes/version.php'));
  const site = await lookAtSite(siteTree(localPlace(root)), parseAddress('https://old.example'));
  assert.equal(textOf(site.facts?.name?.value ?? ('' as ByteString)), 'club');
});

test('a file that was left before it got its mode and time is not taken for a whole one', async t => {
  const root = folder(t);
  const end = new LocalFiles(root);
  const content = Buffer.from('as it was sent');
  const sha256 = createHash('sha256').update(content).digest('hex');
  const like = { mode: 0o644, mtime: 1_500_000_000_000 };
  const wanted = ['left', 'whole'].map(path => ({
    path: path as ByteString,
    type: 'file' as const,
    size: content.length,
    to: undefined,
    sha256,
    ...like,
  }));
  writeFileSync(join(root, 'left'), content, { mode: 0o600 });
  await end.write('whole' as ByteString, content, like);
  const there = new Map<ByteString, FileEntry>();
  const signal = new AbortController().signal;
  for await (const entry of end.list(() => false, signal)) there.set(entry.path, entry);
  const { whole, begun } = await alreadyThere(end, wanted, there, signal, 'resume');
  assert.deepEqual([[...whole], [...begun]], [['whole'], []]);
});
