import assert from 'node:assert/strict';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';
import { Relay } from '../help/relay.js';
import { ownSsh } from './ssh.js';

test('what passes over a line that was slow in the survey is compressed, and over a fast one it is not', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, 'sshd', 'ssh-keygen')) return;
  const root = folder(t);
  const ssh = await ownSsh(t, root, false);
  const relay = new Relay(ssh.port);
  t.after(() => relay.close());
  const port = await relay.listen();
  mkdirSync(join(root, 'site'));
  const text = 'The tide tables of the club, for every week of the year. '.repeat(4000);
  const files = 12;
  for (let i = 0; i < files; i++) writeFileSync(join(root, 'site', `tides-${i}.txt`), text);
  for (const [name, rate] of [
    ['slow', 1_500_000],
    ['fast', Number.POSITIVE_INFINITY],
  ] as const) {
    const move = join(root, name);
    mkdirSync(move);
    mkdirSync(join(root, `new-${name}`));
    writeFileSync(
      join(move, 'move.yaml'),
      `name: ${name}
old: { address: https://old.example, files: "sftp://${ssh.user}@127.0.0.1:${port}${join(root, 'site')}", login: { key: ${ssh.key}, host-key: "${ssh.fingerprint}" } }
new: { address: https://new.example, files: ${join(root, `new-${name}`)} }
`,
    );
    relay.rate = rate;
    const surveyed = await run(['survey', '--quiet'], { cwd: move, env: { HOME: root } });
    assert.ok((surveyed.code ?? 9) < 2, surveyed.stderr);
    const before = relay.passed.back;
    const packed = await run(['pack', '--quiet'], { cwd: move, env: { HOME: root } });
    assert.equal(packed.code, 0, packed.stderr);
    const passed = relay.passed.back - before;
    const whole = files * text.length;
    if (name === 'slow') assert.ok(passed < whole / 4, `${passed} of ${whole} bytes passed`);
    else assert.ok(passed >= whole, `${passed} of ${whole} bytes passed`);
  }
});
