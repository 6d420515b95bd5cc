import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import {
  appendFileSync,
  closeSync,
  cpSync,
  existsSync,
  mkdirSync,
  openSync,
  readFileSync,
  rmSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import fc from 'fast-check';
import { EndError, UsageError } from '../../../src/core/errors.js';
import type { FileEntry } from '../../../src/core/files/entries.js';
import { partBytes, Received } from '../../../src/core/handover/received.js';
import { readTicket, type Ticket } from '../../../src/core/handover/ticket.js';
import { GrowingTar } from '../../../src/ends/archive/growing-tar.js';
import { collect } from '../../../src/steps/handover/collect.js';
import { offer } from '../../../src/steps/handover/offer.js';
import type { StepEvent } from '../../../src/steps/move/events.js';
import { openMove } from '../../../src/steps/move/open.js';
import { unlimitedRate } from '../../../src/steps/move/rate-limit.js';
import type { StepRun } from '../../../src/steps/move/step.js';
import { pack } from '../../../src/steps/pack.js';
import { effort } from '../../help/effort.js';
import { folder, run } from '../../help/program.js';
import { Relay } from '../../help/relay.js';
import { smallDisk } from '../../help/small-disk.js';

const waiting = { port: 0, at: ['127.0.0.1'], hours: 1 };

/** A site with every kind of name, and two move folders at two hosts. */
async function hosts(t: TestContext, bytes: number) {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const name of ['old/wp-includes', 'old/empty', 'new', 'a', 'b'])
    mkdirSync(at(name), { recursive: true });
  writeFileSync(at('old/wp-includes/version.php'), "<?php $wp_version = '6.1';\n");
  writeFileSync(at('old/wp-config.php'), "<?php define('DB_NAME', 'o'); $table_prefix = 'wp_';\n");
  writeFileSync(Buffer.from(`${at('old')}/raw\xff ~ '"`, 'latin1'), 'names are bytes');
  writeFileSync(at('old', `${'long '.repeat(40)}.txt`), 'a pax head');
  writeFileSync(at('old/nothing'), '');
  symlinkSync('wp-includes', at('old/link'));
  for (let i = 0; i < 20; i++) writeFileSync(at(`old/file ${i}`), randomBytes(Math.floor((i * bytes) / 190)));
  const tables = ['options', 'posts', 'users'].map(
    name =>
      `CREATE TABLE \`wp_${name}\` (\`v\` text);\nINSERT INTO \`wp_${name}\` VALUES ('https://old.example');\n`,
  );
  writeFileSync(at('old.sql'), tables.join(''));
  for (const name of ['a', 'b'])
    writeFileSync(
      at(name, 'move.yaml'),
      'name: club\nold: { address: https://old.example, files: ../old, database: { dump: ../old.sql } }\nnew: { address: https://new.example, files: ../new }\n',
    );
  const ending = new AbortController();
  t.after(() => ending.abort());
  /** @param progress is called with the bytes that have come, and what ends the run */
  const open = async (
    name: 'a' | 'b',
    progress: (bytes: number, end: () => void) => void = () => {},
  ): Promise<StepRun & { said: string[] }> => {
    const said: string[] = [];
    const own = new AbortController();
    const events = (event: StepEvent) => {
      if (event.type === 'message') said.push(event.text);
      if (event.type === 'progress') progress(event.done, () => own.abort());
    };
    const signal = AbortSignal.any([ending.signal, own.signal]);
    return { move: await openMove(at(name, 'move.yaml'), {}), events, signal, rate: unlimitedRate, said };
  };
  const assertSame = () =>
    execFileSync('diff', ['-r', '--no-dereference', at('a/crate'), at('b/crate')], { stdio: 'inherit' });
  return { at, open, assertSame };
}

/** Offers, and gives the ticket as soon as it is there. */
async function offered(
  run: StepRun,
  packs = false,
): Promise<{ ticket: Ticket; text: string; ended: Promise<unknown> }> {
  let shown: (text: string) => void = () => {};
  const text = new Promise<string>(resolve => {
    shown = resolve;
  });
  const ended = offer(run, { packs, to: undefined, waiting, show: shown });
  ended.catch(() => {});
  return { ticket: readTicket(await text), text: await text, ended };
}

const collected = (run: StepRun, ticket: Ticket) => collect(run, { ticket, waiting, show: () => {} });

test('any range of a crate’s tar is what is at that place of the whole, also while it grows', async t => {
  const { open } = await hosts(t, 300_000);
  const one = await open('a');
  await pack(one);
  const { crate } = one.move;
  const tar = new GrowingTar(crate);
  const early: FileEntry[] = [];
  for await (const entry of crate.entries()) if (entry.type === 'file' && early.length < 5) early.push(entry);
  for (const entry of early) tar.addFile(entry);
  assert.ok(!tar.isWhole && tar.bytes > 0);
  const bytesOf = async (from: number, to: number) => {
    const chunks: Buffer[] = [];
    for await (const chunk of tar.range(from, to)) chunks.push(Buffer.from(chunk));
    return Buffer.concat(chunks);
  };
  const before = await bytesOf(0, tar.bytes);
  await tar.finish(await crate.manifest());
  const whole = await bytesOf(0, tar.bytes);
  assert.ok(tar.isWhole && whole.subarray(0, before.length).equals(before));
  await fc.assert(
    fc.asyncProperty(fc.nat(whole.length), fc.nat(whole.length), async (a, b) => {
      const [from, to] = a < b ? [a, b] : [b, a];
      assert.ok((await bytesOf(from, to)).equals(whole.subarray(from, to)), `${from} to ${to}`);
    }),
    { numRuns: effort(200, 2000), endOnFailure: true },
  );
});

test('a crate that is packed meanwhile is collected over a line that is cut again and again, and little comes twice', {
  timeout: 600_000,
}, async t => {
  const { open, assertSame } = await hosts(t, effort(20_000_000, 300_000_000));
  const { ticket, ended } = await offered(await open('a'), true);
  const relay = new Relay(Number(ticket.addresses[0]!.split(':')[1]), 20);
  t.after(() => relay.close());
  const there = { ...ticket, addresses: [`127.0.0.1:${await relay.listen()}`] };
  const cuts = effort(3, 50);
  // Of what a line holds when it is cut, nothing arrives: it is less than what passes between two cuts.
  relay.window = 250_000;
  relay.nextCut = () => (relay.cuts < cuts ? effort(5_000_000, 5_500_000) : Number.POSITIVE_INFINITY);
  relay.beginCutting();
  const { bytes } = await collected(await open('b'), there);
  assertSame();
  const offeredBytes = ((await ended) as { bytes: number }).bytes;
  assert.ok(relay.cuts >= cuts, `${relay.cuts} cuts`);
  // Whatever was on the line when it was cut comes again; nothing else does.
  assert.ok(bytes < offeredBytes * 1.02, `${bytes} of ${offeredBytes}`);
});

test('a collector that is killed resumes, and what was changed in its file is noticed and fetched again', {
  timeout: 120_000,
}, async t => {
  const { at, open, assertSame } = await hosts(t, 40_000_000);
  const one = await open('a');
  await pack(one);
  const { ticket, ended } = await offered(one);
  const kill = async () => {
    const killed = await open('b', (bytes, end) => bytes > 28_000_000 && end());
    await assert.rejects(collected(killed, ticket), { name: 'AbortError' });
    return new Received(readFileSync(at('b/collect/parts'), 'utf8').split('\n'));
  };
  /** Somebody, or the disk, changes some bytes of a part. */
  const change = (part: number) => {
    const file = openSync(at('b/collect/crate.tar'), 'r+');
    writeSync(file, Buffer.alloc(8), 0, 8, part * partBytes + 5000);
    closeSync(file);
  };
  const numbers = [0, 1, 2, 3, 4];
  // In a part that is not whole yet, its checksum shows it.
  const first = await kill();
  for (const part of numbers) if (!first.isWhole(part) && first.of(part) > 6000) change(part);
  appendFileSync(at('b/collect/parts'), '2 83');
  const second = await kill();
  // In one that was verified, the files do.
  const whole = numbers.find(part => second.isWhole(part));
  if (whole !== undefined) {
    change(whole);
    await assert.rejects(collected(await open('b'), ticket), { name: 'DamageError' });
  }
  // What a file has lost that is shorter than what had come is fetched again.
  const third = await kill();
  truncateSync(at('b/collect/crate.tar'), 100);
  const { bytes } = await collected(await open('b'), ticket);
  assert.ok(bytes >= third.bytes - 100, `${bytes} came again, of ${third.bytes}`);
  assertSame();
  await ended;
  assert.ok(!existsSync(at('b/collect')));
});

test('a crate that is offered again with a new ticket is resumed, and of another one only what differs is kept', {
  timeout: 120_000,
}, async t => {
  const { at, open, assertSame } = await hosts(t, 40_000_000);
  const one = await open('a');
  await pack(one);
  /** Collects until so many bytes have come; then the old host goes down. */
  const interrupted = async (most: number) => {
    let down = () => {};
    const offering = await open('a', (_, end) => {
      down = end;
    });
    const { ticket, ended } = await offered(offering);
    const collecting = await open('b', (bytes, end) => {
      if (bytes < most) return;
      down();
      end();
    });
    await assert.rejects(collected(collecting, ticket), { name: 'AbortError' });
    await assert.rejects(ended, { name: 'AbortError' });
    return new Received(readFileSync(at('b/collect/parts'), 'utf8').split('\n')).bytes;
  };
  const whole = async () => {
    const { ticket, ended } = await offered(await open('a'));
    const two = await open('b');
    const { bytes } = await collected(two, ticket);
    await ended;
    assertSame();
    assert.match(two.said.join(), /MB have come with an earlier ticket/);
    return bytes;
  };
  const first = await interrupted(28_000_000);
  const rest = await whole();
  assert.ok(rest > 0 && rest <= 40_100_000 - first, `${rest} came after ${first}`);
  // A crate that has become another one meanwhile, and a smaller one.
  await interrupted(36_000_000);
  writeFileSync(at('old/file 5'), 'another');
  rmSync(at('old/file 19'));
  await pack({ ...one, again: true });
  await whole();
});

test('a disk that is full is no lost connection; with room, collecting resumes', async t => {
  const disk = smallDisk(t, '8m');
  if (!disk) return;
  const { at, open, assertSame } = await hosts(t, 20_000_000);
  const one = await open('a');
  await pack(one);
  const { ticket, ended } = await offered(one);
  cpSync(at('b/move.yaml'), join(disk.folder, 'move.yaml'));
  rmSync(at('b'), { recursive: true });
  symlinkSync(disk.folder, at('b'));
  const two = await open('b');
  await assert.rejects(collected(two, ticket), { name: 'PartWayError', message: /the disk is full/ });
  assert.deepEqual(two.said, []);
  disk.grow('80m');
  const { bytes } = await collected(await open('b'), ticket);
  assert.ok(bytes < 18_000_000, `${bytes} came again`);
  assertSame();
  await ended;
});

test('a ticket of another secret, certificate or time is refused and told; a used one is dead', async t => {
  const { open, assertSame } = await hosts(t, 100_000);
  const one = await open('a');
  await pack(one);
  const refused = (wish: Promise<unknown>, kind: new (...args: never[]) => Error, text: RegExp) =>
    assert.rejects(wish, error => error instanceof kind && text.test(error.message));
  const { ticket, ended } = await offered(one);
  const two = await open('b');
  await refused(collected(two, { ...ticket, fingerprint: 'a'.repeat(64) }), EndError, /another certificate/);
  await refused(collected(two, { ...ticket, ends: Date.now() - 1 }), UsageError, /too old/);
  await refused(collected(two, { ...ticket, secret: 'b'.repeat(32) }), EndError, /does not take this ticket/);
  await collected(two, ticket);
  assertSame();
  await ended;
  assert.match(one.said.join(), /was refused: wrong secret/);
  await refused(collected(two, ticket), EndError, /collected with this ticket already/);

  const again = await open('a');
  const second = await offered(again);
  for (let i = 0; i < 5; i++)
    await refused(collected(two, { ...second.ticket, secret: 'b'.repeat(32) }), EndError, /does not take/);
  await refused(collected(two, second.ticket), EndError, /does not take|nobody waits/);
  await refused(second.ended, EndError, /five wrong secrets/);
});

test('where only the collector can be reached, the one who offers comes to it', {
  timeout: 120_000,
}, async t => {
  const { open, assertSame } = await hosts(t, 30_000_000);
  const one = await open('a');
  await pack(one);
  const two = await open('b');
  let shown: (text: string) => void = () => {};
  const text = new Promise<string>(resolve => {
    shown = resolve;
  });
  const collecting = collect(two, { ticket: undefined, waiting, show: shown });
  const ticket = readTicket(await text);
  const relay = new Relay(Number(ticket.addresses[0]!.split(':')[1]));
  t.after(() => relay.close());
  relay.at(12_000_000, () => relay.cut());
  const other = { ...ticket, secret: 'a'.repeat(32) };
  await assert.rejects(
    offer(one, { packs: false, to: other, waiting, show: () => {} }),
    /the other end does not take this ticket/,
  );
  const to = { ...ticket, addresses: [`127.0.0.1:${await relay.listen()}`] };
  const offering = offer(one, { packs: false, to, waiting, show: () => {} });
  await Promise.all([collecting, offering]);
  assertSame();
});

test('offer and collect as a person uses them: the ticket from standard input, then rewritten and delivered', {
  timeout: 120_000,
}, async t => {
  const { at } = await hosts(t, 100_000);
  let said = '';
  const offering = run(['offer', '--pack', '--at', '127.0.0.1'], {
    cwd: at('a'),
    onOutput: text => {
      said += text;
    },
  });
  while (!/porter-\S+/.test(said)) await new Promise(resolve => setTimeout(resolve, 50));
  const [ticket] = /porter-\S+/.exec(said)!;
  const ran = await run(['collect', '-', '--deliver', '--yes'], { cwd: at('b'), input: `${ticket}\n` });
  assert.equal(ran.code, 0, ran.stdout + ran.stderr);
  assert.match(ran.stdout, /Collected: 25 files.*\n.*all of it is what its checksums say/);
  assert.match(ran.stdout, /everything is in its place/);
  assert.equal(readFileSync(at('new/nothing'), 'utf8'), '');
  const { code, stdout } = await offering;
  assert.equal(code, 0);
  assert.match(stdout, /Collected: the other end has all/);
});
