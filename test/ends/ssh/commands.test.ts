import assert from 'node:assert/strict';
import { createHash } from 'node:crypto';
import { PassThrough } from 'node:stream';
import { test } from 'node:test';
import { asBytes } from '../../../src/core/bytes.js';
import { FarCommands } from '../../../src/ends/ssh/commands.js';
import type { SshSession } from '../../../src/ends/ssh/session.js';

const signal = new AbortController().signal;
const turn = () => new Promise(setImmediate);

test('streams that were begun with are used first, a dead one is not, and those of no use are ended', async () => {
  const started: PassThrough[] = [];
  const told: string[] = [];
  let has = true;
  const session = {
    has: async () => has,
    start: async () => {
      const number = started.length;
      const end = (names: Buffer) => told.push(`${number} ${names}`);
      started.push(Object.assign(new PassThrough(), { stderr: new PassThrough(), end }) as never);
      return started.at(-1);
    },
  } as unknown as SshSession;
  const commands = new FarCommands(session, '/site');
  const end = commands.beginTar(3);
  await turn();
  started[0]!.destroy();
  await commands.tar([asBytes('a')], signal);
  assert.equal(started.length, 3);
  end();
  await turn();
  assert.deepEqual(
    started.map(({ destroyed }) => destroyed),
    [true, false, true],
  );
  await commands.tar([asBytes('b')], signal);
  assert.deepEqual(told, ['1 ./a\0', '3 ./b\0']);

  has = false;
  commands.beginTar(2);
  assert.equal(await commands.tar([asBytes('c')], signal), undefined);
  await turn();
  assert.ok(started[4]!.destroyed && started[5]!.destroyed);
});

test('checksums come from the faster program where it exists, but not of names that break its lines', async () => {
  const sumOf = (path: string) => createHash('sha256').update(path).digest('hex');
  const plain = ['a', 'b c', 'unread', '\xe9'];
  const broken = ['new\nline', 'back\\slash'];
  for (const there of [['openssl', 'sha256sum'], ['sha256sum'], ['openssl'], []]) {
    const asked: string[] = [];
    const session = {
      has: async (program: string) => there.includes(program),
      run: async (command: string, { input }: { input: () => AsyncIterable<Buffer> }) => {
        const names: string[] = [];
        for await (const chunk of input()) names.push(...chunk.toString().split('\0').slice(0, -1));
        const [, program] = /xargs -0 (\w+) /.exec(command)!;
        const end = program === 'openssl' ? '\n' : '\0';
        asked.push(...names.map(name => `${program} ${name}`));
        const lines = names
          .filter(name => name !== './unread')
          .map(name => `${sumOf(name.slice(2))} *${name}${end}`);
        return { code: 1, out: Buffer.from(lines.join('')), err: 'unread: Permission denied' };
      },
    } as unknown as SshSession;
    const paths = [...plain, ...broken].map(path => asBytes(Buffer.from(path).toString('latin1')));
    const sums = await new FarCommands(session, '/site').sums(paths);
    const told = [...plain, ...(there.includes('sha256sum') ? broken : [])].filter(one => one !== 'unread');
    assert.deepEqual(
      [...sums.values()].sort(),
      (there.length === 0 ? [] : told).map(sumOf).sort(),
      there.join(),
    );
    const byFaster = asked.filter(one => one.startsWith('openssl '));
    assert.equal(byFaster.length, there.includes('openssl') ? plain.length : 0);
    assert.ok(!byFaster.some(one => broken.some(name => one.includes(name))));
  }
});
