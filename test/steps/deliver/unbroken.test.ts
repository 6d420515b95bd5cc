import assert from 'node:assert/strict';
import { existsSync, mkdirSync, readdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { deliver } from '../../../src/steps/deliver.js';
import { pack } from '../../../src/steps/pack.js';
import { undo } from '../../../src/steps/undo.js';
import { type Kind, moveBetween, standinHost } from '../../help/hosts.js';
import { folder } from '../../help/program.js';
import { Relay } from '../../help/relay.js';

/** Milliseconds each way. */
const delay = 25;
const usual = { byContent: false, mirror: false, sample: false };
const page = (of: string) => `<?php echo '${of}';`;

/** What a visitor reads at a path, and how long it was not there at most, in milliseconds. */
class Visitor {
  readonly seen = new Set<string>();
  longestAbsence = 0;
  private absentSince: number | undefined;
  private readonly asking: NodeJS.Timeout;

  constructor(t: TestContext, path: string) {
    this.asking = setInterval(() => this.look(path), 2);
    t.after(() => clearInterval(this.asking));
  }

  private look(path: string): void {
    const now = performance.now();
    try {
      const text = readFileSync(path, 'utf8');
      this.absentSince = undefined;
      this.seen.add(/503|'(.*)'/.exec(text)?.[0] ?? 'something else');
    } catch {
      this.absentSince ??= now;
      this.longestAbsence = Math.max(this.longestAbsence, now - this.absentSince);
    }
  }

  leave(): void {
    clearInterval(this.asking);
  }
}

async function distantMove(t: TestContext, kind: Kind, isRoot: boolean) {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const [site, of] of [
    ['old/site', 'moved'],
    ['new/site', 'before'],
  ] as const) {
    mkdirSync(at(site, 'inside'), { recursive: true });
    writeFileSync(at(site, 'index.php'), page(of));
    writeFileSync(at(site, 'inside/file'), of);
    writeFileSync(at(site, `only-${of}.php`), page(of));
  }
  const isFtp = kind.startsWith('ftp');
  const host = await standinHost(t, isRoot && isFtp ? at('new/site') : at('new'), kind);
  const refused = () => Object.assign(new Error('permission denied'), { code: 'EACCES' });
  if (isRoot && !isFtp) host.misbehaviour.forbids = path => /^\/(?:site)?$|^\/\./.test(path) && refused();
  const relay = new Relay(Number(new URL(host.address).port), delay);
  const port = await relay.listen();
  t.after(() => relay.close());
  const address = host.address.replace(/:\d+$/, `:${port}`);
  const files = `${address}${isRoot && isFtp ? '/' : '/site'}`;
  const { run } = await moveBetween(t, root, { files: at('old/site') }, { files, login: host.login });
  return { run, at };
}

for (const kind of ['sftp', 'ftp'] as const)
  test(`over ${kind}, a web root is never missing for as long as a round trip takes`, async t => {
    const { run, at } = await distantMove(t, kind, false);
    const front = at('new/site/index.php');
    const visitor = new Visitor(t, front);
    await pack(run);
    await deliver(run, usual);
    // Somebody edits it, and the next delivery replaces what was edited.
    writeFileSync(front, page('edited'));
    writeFileSync(at('old/site/index.php'), page('second'));
    await pack(run);
    await deliver(run, { ...usual, replaceChanges: true });
    await undo(run);
    visitor.leave();
    assert.deepEqual([...visitor.seen], ["'before'", '503', "'moved'", "'edited'", "'second'"]);
    assert.equal(readFileSync(front, 'utf8'), page('before'));
    assert.ok(visitor.longestAbsence < 2 * delay, `${visitor.longestAbsence} ms`);
  });

test('a run that was killed during an exchange is taken back whether the exchange was done or not', async t => {
  for (const wasDone of [true, false]) {
    const root = folder(t);
    const at = (...parts: string[]) => join(root, ...parts);
    for (const site of ['old', 'new']) {
      mkdirSync(at(site, 'site'), { recursive: true });
      writeFileSync(at(site, 'site/index.php'), page(site));
    }
    const { run } = await moveBetween(t, root, { files: at('old/site') }, { files: at('new/site') });
    await pack(run);
    await deliver(run, usual);
    const journal = readFileSync(at('move/journal.ndjson'), 'utf8').split('\n');
    const until = journal.findIndex(line => line.includes('"exchanging"')) + 1;
    writeFileSync(at('move/journal.ndjson'), `${journal.slice(0, until).join('\n')}\n`);
    if (!wasDone) {
      renameSync(at('new/site'), at('new/.able-porter.tree/site.incoming'));
      renameSync(at('new/.able-porter.tree/site.keepsake'), at('new/site'));
    }
    const { result } = await undo(run);
    assert.equal(result.removed.length, wasDone ? 1 : 0);
    assert.equal(readFileSync(at('new/site/index.php'), 'utf8'), page('new'));
    assert.deepEqual(readdirSync(at('new')), ['site']);
    await deliver(run, usual);
    assert.equal(readFileSync(at('new/site/index.php'), 'utf8'), page('old'));
  }
});

for (const kind of ['sftp', 'ftp'] as const)
  test(`over ${kind}, a web root that cannot be renamed shows a maintenance page meanwhile`, async t => {
    const { run, at } = await distantMove(t, kind, true);
    const visitor = new Visitor(t, at('new/site/index.php'));
    await pack(run);
    await deliver(run, usual);
    visitor.leave();
    assert.deepEqual([...visitor.seen], ["'before'", '503', "'moved'"]);
    assert.ok(visitor.longestAbsence < 2 * delay, `${visitor.longestAbsence} ms`);
    assert.ok(!existsSync(at('new/site/only-before.php')));
    const kept = at('new/site/.able-porter.tree/keepsake');
    for (const name of ['index.php', 'only-before.php'])
      assert.equal(readFileSync(join(kept, name), 'utf8'), page('before'));
    await undo(run);
    assert.equal(readFileSync(at('new/site/index.php'), 'utf8'), page('before'));
    assert.ok(!existsSync(at('new/site/only-moved.php')));
  });
