import assert from 'node:assert/strict';
import { test } from 'node:test';
import type { PartWayError } from '../../src/core/errors.js';
import { BackOff } from '../../src/ends/back-off.js';

test('what is cut together waits together, and counts as one loss', async t => {
  t.mock.timers.enable({ apis: ['setTimeout'] });
  const backOff = new BackOff('old.saltmarsh.example', 2);
  const said: string[] = [];
  const together = async () => {
    const all = Array.from({ length: 8 }, () => backOff.wait(text => said.push(text)));
    await Promise.resolve();
    t.mock.timers.tick(2000);
    return Promise.all(all);
  };
  await together();
  await together();
  assert.deepEqual(
    said.map(text => text.replace(/.*; /, '')),
    ['trying again in 1 s (1 of 2)', 'trying again in 2 s (2 of 2)'],
  );
  await assert.rejects(together(), (error: PartWayError) => error.kind === 'connection lost');
  backOff.reset();
  await together();
});
