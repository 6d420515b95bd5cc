import assert from 'node:assert/strict';
import { join } from 'node:path';
import { test } from 'node:test';
import { openFleet } from '../../../src/steps/fleet/fleet.js';
import { OnThisMachine } from '../../../src/steps/fleet/on-this-machine.js';
import type { FleetRunner } from '../../../src/steps/fleet/runner.js';
import { switchInWaves } from '../../../src/steps/fleet/waves.js';
import { makeFleet, siteName } from '../../help/fleet.js';
import { folder } from '../../help/program.js';

test('each wave is watched before the next, the first that does not come up ends it, and one that is up is left alone', async t => {
  const fleet = await openFleet(join(await makeFleet(folder(t), 5), 'fleet.yaml'), {});
  const down = new Set([siteName(4)]);
  let asked: string[] = [];
  const runner: FleetRunner = {
    run: async (jobs, observe) => {
      for (const { name, command } of jobs) {
        const [, action] = command;
        asked.push(`${action} ${name}`);
        const state = action === 'watch' && down.has(name) ? 'stopped' : 'done';
        const findings = { stop: 0, warn: 0, note: 0 };
        observe({
          site: name,
          state: 'ended',
          outcome: { site: name, state, step: 'cutover', why: 'the resolvers stay', findings, seconds: 1 },
        });
      }
    },
  };
  const run = async () => {
    asked = [];
    const work = { runner: () => runner, observe: () => {}, signal: new AbortController().signal };
    const wish = { options: ['--now'], of: 2, watchFor: 60, every: 5, began: () => {} };
    return (await switchInWaves(fleet, work, wish)).map(({ state, trouble }) => [
      state,
      trouble.map(({ site }) => site),
    ]);
  };
  const [one, two, three, four, five] = [1, 2, 3, 4, 5].map(siteName);
  assert.deepEqual(await run(), [
    ['up', []],
    ['not up', [four]],
    ['not begun', []],
  ]);
  const first = [`switch ${one}`, `switch ${two}`, `watch ${one}`, `watch ${two}`];
  assert.deepEqual(asked, [...first, `switch ${three}`, `switch ${four}`, `watch ${three}`, `watch ${four}`]);
  down.clear();
  assert.deepEqual(
    (await run()).map(([state]) => state),
    ['up', 'up', 'up'],
  );
  assert.deepEqual(asked, [`watch ${four}`, `switch ${five}`, `watch ${five}`]);
});

test('a site that could not begin since the run was ended is interrupted; one that could not begin otherwise has failed', async () => {
  for (const isEnded of [true, false]) {
    const ending = new AbortController();
    const states: (string | undefined)[] = [];
    const machine = new OnThisMachine(
      async () => {
        if (isEnded) ending.abort();
        throw new Error('no room for a process');
      },
      { atOnce: 1, perHost: 1 },
    );
    const job = { name: 'a', sheet: 'move.yaml', hosts: [], digest: '', command: ['go'] };
    await machine.run([job], ({ outcome }) => states.push(outcome?.state), ending.signal);
    assert.equal(states.at(-1), isEnded ? 'interrupted' : 'failed');
  }
});
