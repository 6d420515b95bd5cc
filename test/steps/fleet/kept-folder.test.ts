import assert from 'node:assert/strict';
import { mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { PartWayError, UsageError } from '../../../src/core/errors.js';
import { localPlace } from '../../../src/ends/files/place.js';
import { FilesStore } from '../../../src/ends/store/files-store.js';
import { KeptFolder } from '../../../src/steps/fleet/kept-folder.js';
import { folder } from '../../help/program.js';

test('a move folder is resumed from the last whole copy, and whoever had it before keeps nothing more', async t => {
  const root = folder(t);
  const { signal } = new AbortController();
  const store = new FilesStore(localPlace(join(root, 'store')));
  const machine = (name: string, fence: number) => {
    const at = join(root, name);
    mkdirSync(join(at, 'results'), { recursive: true });
    return { store, site: 'club.1', fence, folder: at };
  };
  const a = machine('a', 1);
  writeFileSync(join(a.folder, 'journal.ndjson'), 'one\n');
  writeFileSync(join(a.folder, '.env'), 'SECRET=x\n');
  const kept = new KeptFolder(a, await KeptFolder.takeOver(a, 'feather', signal));
  writeFileSync(join(a.folder, 'journal.ndjson'), 'one\ntwo\n');
  writeFileSync(join(a.folder, "results/it's ~ 1.json"), '{}');
  await kept.keep(signal);
  // A second worker was killed before it had kept anything.
  mkdirSync(join(root, 'store/club.1.2'));
  const [key] = readdirSync(join(root, 'store/club.1.1')).filter(name => name === 'key.age');
  writeFileSync(join(root, 'store/club.1.2/key.age'), readFileSync(join(root, 'store/club.1.1', key!)));
  await assert.rejects(kept.keep(signal), PartWayError, 'the first sees that another has begun');
  const c = machine('c', 3);
  writeFileSync(join(c.folder, 'results/older.json'), '{}');
  await assert.rejects(KeptFolder.takeOver(c, 'another', signal), UsageError);
  await KeptFolder.takeOver(c, 'feather', signal);
  assert.equal(readFileSync(join(c.folder, 'journal.ndjson'), 'utf8'), 'one\ntwo\n');
  assert.deepEqual(readdirSync(join(c.folder, 'results')), ["it's ~ 1.json"]);
  assert.ok(!readdirSync(c.folder).includes('.env'));
  assert.deepEqual(readdirSync(join(root, 'store')), ['club.1.3']);
  await assert.rejects(KeptFolder.takeOver({ ...a, fence: 2 }, 'feather', signal), PartWayError);
});
