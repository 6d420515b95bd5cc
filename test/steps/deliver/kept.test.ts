import assert from 'node:assert/strict';
import { mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { deliver } from '../../../src/steps/deliver.js';
import { openMove } from '../../../src/steps/move/open.js';
import type { StepRun } from '../../../src/steps/move/step.js';
import { pack } from '../../../src/steps/pack.js';
import { undo, undoKeepsake } from '../../../src/steps/undo.js';
import { moveBetween } from '../../help/hosts.js';
import { folder } from '../../help/program.js';
import { treeOf } from '../../help/tree.js';

const usual = { byContent: false, mirror: false, sample: false };

async function delivered(t: TestContext) {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const end of ['old', 'new']) {
    mkdirSync(at(end, 'site/inside'), { recursive: true });
    writeFileSync(at(end, 'site/index.html'), end);
    writeFileSync(at(end, 'site/inside/file'), `inside ${end}`);
  }
  const { run } = await moveBetween(t, root, { files: at('old/site') }, { files: at('new/site') });
  await pack(run);
  await deliver(run, usual);
  return { run, at };
}

test('a keepsake that is not whole any more is not put back, and nothing is changed', async t => {
  const spoiling: [name: string, spoil: (keepsake: string) => void][] = [
    ['a file is gone', kept => rmSync(join(kept, 'inside/file'))],
    ['a file is cut short', kept => writeFileSync(join(kept, 'inside/file'), 'ins')],
    ['a file has another name', kept => renameSync(join(kept, 'index.html'), join(kept, 'index.htm'))],
    ['something was added', kept => writeFileSync(join(kept, 'more'), '')],
    ['all of it is gone', kept => rmSync(kept, { recursive: true })],
  ];
  const { run, at } = await delivered(t);
  const keepsake = at('new/.able-porter.tree/site.keepsake');
  const before = treeOf(at('new/site'));
  renameSync(keepsake, at('whole'));
  const restore = () => {
    rmSync(keepsake, { recursive: true, force: true });
    assert.equal(renameSync(at('whole'), keepsake), undefined);
  };
  for (const [name, spoil] of spoiling) {
    restore();
    const copy = readFileSync(join(keepsake, 'inside/file'));
    spoil(keepsake);
    await assert.rejects(undo(run), /when it was kept, and holds|which is not there any more/, name);
    assert.deepEqual(treeOf(at('new/site')), before, name);
    rmSync(keepsake, { recursive: true, force: true });
    mkdirSync(at('whole/inside'), { recursive: true });
    writeFileSync(at('whole/inside/file'), copy);
    writeFileSync(at('whole/index.html'), 'new');
  }
  restore();
  const { result } = await undo(run);
  assert.equal(result.restored.length, 1);
  assert.equal(readFileSync(at('new/site/index.html'), 'utf8'), 'new');
});

test('single files that a later delivery replaced are looked at as well before they are put back', async t => {
  const { run, at } = await delivered(t);
  writeFileSync(at('new/site/index.html'), 'written by the new site');
  writeFileSync(at('old/site/index.html'), 'second');
  await pack(run);
  await deliver(run, { ...usual, replaceChanges: true });
  const kept = at('new/.able-porter.tree/site.keepsake2/index.html');
  const whole = readFileSync(kept);
  writeFileSync(kept, '');
  await assert.rejects(
    undoKeepsake(run, 2),
    /held 1 file \(23 B\) when it was kept, and holds 1 file \(0 B\) now/,
  );
  assert.equal(readFileSync(at('new/site/index.html'), 'utf8'), 'second');
  writeFileSync(kept, whole);
  await undoKeepsake(run, 2);
  assert.equal(readFileSync(at('new/site/index.html'), 'utf8'), 'written by the new site');
});

test('what was delivered to a place that the sheet does not name now is not called undone', async t => {
  const { run, at } = await delivered(t);
  const sheet = at('move/move.yaml');
  const named = readFileSync(sheet, 'utf8');
  writeFileSync(sheet, named.replace(at('new/site'), at('elsewhere/site')));
  const other: StepRun = { ...run, move: await openMove(sheet, {}) };
  await assert.rejects(undo(other), /delivered to .*new\/site, which the sheet does not name now/);
  assert.equal(readFileSync(at('new/site/index.html'), 'utf8'), 'old');
});

test('a move that is moved with both of its ends is undone all the same', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const path of ['a/old', 'a/new/site']) mkdirSync(at(path), { recursive: true });
  writeFileSync(at('a/old/index.html'), 'old');
  writeFileSync(at('a/new/site/index.html'), 'before');
  const { run } = await moveBetween(t, at('a'), { files: '../old' }, { files: '../new/site' });
  await pack(run);
  await deliver(run, usual);
  renameSync(at('a'), at('b'));
  const moved: StepRun = { ...run, move: await openMove(at('b/move/move.yaml'), {}) };
  const { result } = await undo(moved);
  assert.deepEqual(result.restored, [at('b/new/site')]);
  assert.equal(readFileSync(at('b/new/site/index.html'), 'utf8'), 'before');
});
