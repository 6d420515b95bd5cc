import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { asBytes } from '../../../src/core/bytes.js';
import { moveBetween, standinHost } from '../../help/hosts.js';
import { folder } from '../../help/program.js';
import { Relay } from '../../help/relay.js';

test('a line that is lost while a long list of names is sent is only a line that is lost', async t => {
  const root = folder(t);
  const host = await standinHost(t, join(root, 'old'), 'sftp with a shell');
  mkdirSync(join(root, 'old/site'));
  writeFileSync(join(root, 'old/site/here'), 'ebb');
  const relay = new Relay(Number(/\d+$/.exec(host.address)![0]));
  t.after(() => relay.close());
  const files = `${host.address.replace(/\d+$/, '')}${await relay.listen()}/site`;
  const { run, waited } = await moveBetween(
    t,
    root,
    { files, login: host.login },
    { files: join(root, 'new') },
  );
  const end = run.move.oldPlace!.open();
  assert.ok(await end.isThere());
  relay.rate = 1_000_000;
  relay.at(1_500_000, () => {
    relay.rate = Number.POSITIVE_INFINITY;
    relay.cut();
  });
  const names = Array.from({ length: 10_000 }, (_, i) => asBytes(`${'x'.repeat(200)}/`.repeat(3) + i));
  const sums = await end.checksums([asBytes('here'), ...names], run.signal);
  assert.deepEqual([...sums], [['here', createHash('sha256').update('ebb').digest('hex')]]);
  assert.match(waited.join(), /^The connection to 127.0.0.1 was lost; [^,]*,[^,]* is there again$/);
});
