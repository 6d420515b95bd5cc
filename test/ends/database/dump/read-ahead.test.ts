import assert from 'node:assert/strict';
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { parsePair } from '../../../../src/core/address/pairs.js';
import { blockBytes, roomBefore } from '../../../../src/core/kernels/workbench.js';
import { DumpRewriter } from '../../../../src/core/rewrite/carriers/dump.js';
import { compileRules } from '../../../../src/core/rewrite/terms/rules.js';
import type { ManySearch } from '../../../../src/core/search/many.js';
import { blocksOf } from '../../../../src/ends/database/dump/read-ahead.js';
import type { BlockRead } from '../../../../src/ends/database/dump/read-ahead-task.js';
import { DirectFile } from '../../../../src/ends/database/io/direct-file.js';
import { bench } from '../../../help/bench.js';

const rules = () => compileRules(bench, [parsePair('https://old.example/site', 'https://new.example')]);

/**
 * A dump in a file, with addresses in every second row of its last quarter; rows of many lengths, some longer than what is
 * looked at together.
 */
function dumpFile(t: TestContext, bytes: number): { file: string; text: string } {
  const rows = ['INSERT INTO t VALUES (0,NULL)'];
  for (let i = 1, size = 0; size < bytes; i++) {
    const long = i % 301 === 0 ? 150_000 : (i * 7919) % 1500;
    const address =
      i % 2 === 0 && size > (bytes * 3) / 4 ? 'https:\\/\\/old.example\\/site\\/a' : 'old-example';
    rows.push(`,\n(${i},'${address} ${'x'.repeat(long)} ${address} it\\'s ${i}')`);
    size += rows.at(-1)!.length;
  }
  const text = `${rows.join('')};\n`;
  const folder = mkdtempSync(join(tmpdir(), 'able-porter-'));
  t.after(() => rmSync(folder, { recursive: true }));
  writeFileSync(join(folder, 'old.sql'), text, 'latin1');
  return { file: join(folder, 'old.sql'), text };
}

/** Follows the next thread that is started. */
function nextThread() {
  let ready = false;
  let unread = 0;
  let done = false;
  let wake = () => {};
  process.once('worker', worker => {
    worker.on('message', (message: BlockRead | 'ready') => {
      if (message === 'ready') ready = true;
      else {
        unread++;
        done ||= message.bytes < blockBytes;
      }
      wake();
    });
    worker.once('exit', () => {
      done = true;
      wake();
    });
  });
  const until = async (so: () => boolean) => {
    while (!so() && !done)
      await new Promise<void>(resolve => {
        wake = resolve;
      });
  };
  let blocks = 0;
  return {
    /** Waits until the thread is ahead of a block that was taken: is ready, or has read the next. */
    async ahead(): Promise<void> {
      // The first two blocks are not read by it.
      if (++blocks > 2) unread--;
      await until(blocks === 1 ? () => ready : () => unread > 0);
    },
  };
}

/** Gives the blocks of a file to somebody, through another thread that is always ahead. */
async function read(
  file: string,
  search: ManySearch,
  take: (block: Buffer) => void | Promise<void>,
): Promise<void> {
  const blocks = bench.incoming.take();
  assert.ok(blocks, 'the blocks were given back');
  const thread = nextThread();
  try {
    for await (const block of blocksOf(bench, file, blocks, () => {}, search, 0)) {
      await take(block);
      await thread.ahead();
    }
  } finally {
    bench.incoming.giveBack();
  }
}

test('what another thread finds ahead is rewritten and counted as what is found here', async t => {
  const { file, text } = dumpFile(t, 17.3 * blockBytes);
  const here = new DumpRewriter({ rules: rules() });
  here.push(Buffer.from(text, 'latin1'));
  here.finish();
  const out = new DirectFile(bench, `${file}.new`, 'Writing');
  const emit = Object.assign((chunk: Buffer) => out.take(chunk), { place: () => out.place() });
  const ahead = new DumpRewriter({ rules: rules() }, emit);
  const foresee = t.mock.method(ahead.search!, 'foresee');
  const passOn = t.mock.method(bench, 'passOn');
  await read(file, ahead.search!, async block => {
    ahead.push(block, roomBefore);
    await out.room(8 << 20);
  });
  ahead.finish();
  await out.end();
  assert.ok(foresee.mock.callCount() > 0, 'the thread had begun');
  assert.ok(passOn.mock.calls.filter(({ result }) => result).length > 2, 'blocks were handed on');
  const expected = text.replaceAll('old.example\\/site', 'new.example');
  assert.ok(readFileSync(`${file}.new`, 'latin1') === expected);
  assert.deepEqual(ahead.tally.all(), here.tally.all());
  assert.deepEqual(ahead.tables, here.tables);
});

test('blocks are those of the file, to its end, whatever that is', async t => {
  for (const bytes of [8 * blockBytes, 8 * blockBytes + 1, 9 * blockBytes - 1]) {
    const { file } = dumpFile(t, 0);
    const content = Buffer.alloc(bytes);
    for (let at = 0; at + 4 <= bytes; at += 4) content.writeUInt32LE(at, at);
    writeFileSync(file, content);
    let at = 0;
    await read(file, new DumpRewriter({ rules: rules() }).search!, block => {
      assert.ok(block.equals(content.subarray(at, at + block.length)), `at ${at} of ${bytes}`);
      at += block.length;
    });
    assert.equal(at, bytes);
  }
});

test('a thread ends with the reading that it is for, and its failure is that of the reading', async t => {
  const { file } = dumpFile(t, 12 * blockBytes);
  const { search } = new DumpRewriter({ rules: rules() });
  for (const last of [1, 2, 5]) {
    let blocks = 0;
    await assert.rejects(
      read(file, search!, () => {
        if (++blocks === last) throw new Error('enough');
      }),
      /enough/,
    );
  }
  t.mock.method(search!, 'placesAhead', () => ({}));
  await assert.rejects(
    read(file, search!, () => {}),
    TypeError,
  );
});
