import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { ContentDigest, kindOf } from '../../../src/core/database/content/content-digest.js';
import { DumpContent } from '../../../src/core/database/content/dump-content.js';
import {
  type PieceMemory,
  type PiecePrints,
  RememberedRows,
} from '../../../src/core/database/content/piece-prints.js';
import { InsertWriter } from '../../../src/core/database/insert-writer.js';
import { RowChanges } from '../../../src/core/database/row-changes.js';
import type { Column } from '../../../src/core/sql/column.js';
import { introducerOf, selectedAs, writingOf } from '../../../src/core/sql/column.js';
import { DumpStatements } from '../../../src/core/sql/statements.js';
import { bench } from '../../help/bench.js';
import { effort } from '../../help/effort.js';

const column = (type: string, charset?: string): Column => ({ name: type, type, charset, generated: false });
const columns = [
  column('bigint'),
  column('longtext', 'utf8mb4'),
  column('blob'),
  column('bit'),
  column('double'),
  column('tinytext', 'latin1'),
];

const text = fc.oneof(
  fc.string().map(s => Buffer.from(s)),
  fc.constantFrom(...[`'`, '\\', "a\\'", '\0\x1a\r\n', ');', '-- x', "','"].map(s => Buffer.from(s))),
);

const row = fc.tuple(
  fc.option(fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }).map(n => Buffer.from(String(n)))),
  fc.option(text),
  fc.option(fc.uint8Array().map(bytes => Buffer.from(bytes))),
  fc.option(fc.uint8Array({ minLength: 8, maxLength: 8 }).map(bytes => Buffer.from(bytes))),
  fc.option(fc.double({ noNaN: true, noDefaultInfinity: true }).map(n => Buffer.from(String(n)))),
  fc.option(text),
);

function dumpOf(rows: readonly (readonly (Buffer | null)[])[]): Buffer {
  const chunks: Buffer[] = [
    Buffer.from(
      'CREATE TABLE `t` (`bigint` bigint, `longtext` longtext, `blob` blob, `bit` bit(64), `double` double, `tinytext` tinytext);\n',
    ),
  ];
  const head = 'INSERT INTO `t` (`bigint`,`longtext`,`blob`,`bit`,`double`,`tinytext`) VALUES';
  const writer = new InsertWriter(chunk => chunks.push(Buffer.from(chunk)));
  writer.begin(
    head,
    columns.map(column => ({ writing: writingOf(column), introducer: introducerOf(column, 'utf8mb4') })),
  );
  for (const cells of rows) writer.row(cells);
  writer.finish();
  return Buffer.concat(chunks);
}

function digestOf(rows: readonly (readonly (Buffer | null)[])[]) {
  const digest = new ContentDigest(columns.map(kindOf));
  for (const cells of rows) digest.add(cells);
  return digest.content();
}

test('rows that are written into a dump are read back as they were, in whatever pieces it comes', () => {
  fc.assert(
    fc.property(fc.array(row, { maxLength: 12 }), fc.integer({ min: 1, max: 200 }), (rows, size) => {
      const dump = dumpOf(rows);
      const content = new DumpContent(bench);
      for (let at = 0; at < dump.length; at += size) content.push(dump.subarray(at, at + size));
      content.finish();
      assert.deepEqual(content.contents().get('t'), digestOf(rows));
    }),
    { numRuns: 300 },
  );
});

test('the digest does not mind the order of rows, and minds every change, loss and doubling', () => {
  fc.assert(
    fc.property(fc.array(row, { minLength: 2, maxLength: 8 }), fc.nat(), (rows, at) => {
      const i = at % rows.length;
      const { digest } = digestOf(rows);
      assert.equal(digestOf(rows.toReversed()).digest, digest);
      assert.notEqual(digestOf(rows.toSpliced(i, 1)).digest, digest);
      assert.notEqual(digestOf([...rows, rows[i]!]).digest, digest);
      const other = rows[i]!.with(1, Buffer.concat([rows[i]![1] ?? Buffer.from('x'), Buffer.from('y')]));
      assert.notEqual(digestOf(rows.with(i, other as (typeof rows)[number])).digest, digest);
    }),
  );
});

test('equal values have one digest however programs write them, and others have not', () => {
  const digest = (type: string, text: string) => {
    const one = new ContentDigest([kindOf({ type })]);
    one.add([Buffer.from(text)]);
    return one.content().digest;
  };
  const same: [type: string, a: string, b: string][] = [
    ['int', '42', '0000042'],
    ['int', '0', '-0'],
    ['decimal', '5', '5.00'],
    ['decimal', '-.5', '-0.50'],
    ['float', '0.1', '0.10000000149011612'],
    ['double', '1e3', '1000'],
    ['bit', '\0\x05', '\x05'],
  ];
  for (const [type, a, b] of same) assert.equal(digest(type, a), digest(type, b), `${type} ${a} ${b}`);
  const different: typeof same = [
    ['varchar', '5', '5.00'],
    ['decimal', '5.01', '5.1'],
    ['double', '0.1', '0.10000000149011612'],
    ['bigint', '9007199254740993', '9007199254740992'],
  ];
  for (const [type, a, b] of different)
    assert.notEqual(digest(type, a), digest(type, b), `${type} ${a} ${b}`);
});

test('another program’s ways of writing rows are opened; what only a server can work out is not compared', () => {
  const read = (rows: string) => {
    const content = new DumpContent(bench);
    const create = 'CREATE TABLE t (a int, b text, g int GENERATED ALWAYS AS (a + 1) STORED);\n';
    content.push(Buffer.from(`${create}INSERT INTO t (b, a) VALUES ${rows};\n`));
    content.finish();
    return content.contents().get('t');
  };
  const wanted = read("('x', 1), (NULL, -2)");
  assert.equal(wanted?.rows, 2);
  for (const rows of [
    '(NULL,-2),(0x78,1)',
    "( X'78' , 1 ) ,\n(null, -2)",
    "(_utf8mb4'x',01),(NULL,'-2')",
    '(_binary 0x78,+1),(NULL,-2)',
    "('x' /* one */,1),(NULL,-2)",
  ])
    assert.deepEqual(read(rows), wanted, rows);
  assert.equal(read("(CONCAT('x', ')'), 1)"), undefined);
  assert.equal(read('(NOW(), 1), (NULL, 2)'), undefined);
  assert.equal(
    selectedAs({ name: 'a`b', type: 'float', charset: undefined, generated: false }),
    '`a``b`*1e0',
  );
});

test('a dump is cut into statements between rows, and the same rows come out', () => {
  fc.assert(
    fc.property(
      fc.array(row, { maxLength: 30 }),
      fc.integer({ min: 20, max: 2000 }),
      fc.integer({ min: 1, max: 500 }),
      (rows, longest, size) => {
        const dump = dumpOf(rows);
        const pieces: string[] = [];
        let count = 0;
        const reader = new DumpStatements(bench, longest, ({ sql, rows: n }) => {
          pieces.push(sql);
          count += n;
        });
        for (let at = 0; at < dump.length; at += size) reader.push(dump.subarray(at, at + size));
        reader.finish();
        assert.equal(count, rows.length);
        const content = new DumpContent(bench);
        content.push(Buffer.from(pieces.map(sql => `${sql};\n`).join(''), 'latin1'));
        content.finish();
        assert.deepEqual(content.contents().get('t'), digestOf(rows));
      },
    ),
  );
});

/** A memory of pieces that outlives a dump. */
class Pieces implements PieceMemory {
  private readonly known = new Map<string, PiecePrints>();

  find(digest: Buffer): PiecePrints | undefined {
    return this.known.get(digest.toString('hex'));
  }

  keep(digest: Buffer, { rows, sum, prints }: PiecePrints): void {
    const copy = { rows, sum: Buffer.from(sum), prints: Buffer.from(prints) };
    this.known.set(digest.toString('hex'), copy);
  }
}

const crowd = Array.from({ length: 3000 }, (_, i) => [
  Buffer.from(String(i)),
  Buffer.from(`oars ${i} `.repeat(1 + (i % 9))),
  null,
  null,
  Buffer.from(String(i / 7)),
  i % 5 === 0 ? null : Buffer.from("it's low water"),
]);

test('what is known of the pieces of one dump says the same of the next as reading all of it', () => {
  const keys = new Map([['t', ['bigint']]]);
  const look = (dump: Buffer, memory?: PieceMemory) => {
    const remembered = new RememberedRows();
    const content = new DumpContent(bench, { keys, memory, remembered });
    content.push(dump);
    content.finish();
    const prints = content.prints('t')!;
    return { content: content.contents().get('t'), prints, remembered: remembered.all()! };
  };
  const change = fc.record({
    at: fc.nat(crowd.length - 1),
    what: fc.constantFrom('changed', 'gone', 'new', 'longer'),
  });
  fc.assert(
    fc.property(fc.array(change, { minLength: 1, maxLength: 5 }), changes => {
      const memory = new Pieces();
      const before = look(dumpOf(crowd), memory);
      let rows: (readonly (Buffer | null)[])[] = crowd;
      for (const [i, { at, what }] of changes.entries()) {
        const place = Math.min(at, rows.length - 1);
        const row = rows[place]!;
        if (what === 'gone') rows = rows.toSpliced(place, 1);
        else if (what === 'new')
          rows = rows.toSpliced(place, 0, [Buffer.from(String(9000 + i)), ...row.slice(1)]);
        else
          rows = rows.with(
            place,
            row.with(1, Buffer.from(`${what} ${i}`.repeat(what === 'longer' ? 9000 : 1))),
          );
      }
      const dump = dumpOf(rows);
      const after = look(dump, memory);
      const alone = look(dump);
      assert.deepEqual(after.content, alone.content);
      assert.deepEqual(after.prints.bytes(), alone.prints.bytes());
      // Only what is around a change was opened.
      const opened = after.remembered.reduce((sum, { bytes }) => sum + bytes.length, 0);
      assert.ok(opened < changes.length * 400_000, `${opened} bytes`);
      assert.ok(after.remembered.length <= 4 * changes.length, `${after.remembered.length} pieces`);

      const { keys: changed } = after.prints.since(before.prints);
      const table = { table: 't', columns, key: ['bigint'], keys: changed };
      const some = new RowChanges(bench, [table], { edits: [], charset: 'utf8mb4' });
      assert.ok(some.takeRemembered(after.remembered));
      const all = new RowChanges(bench, [table], { edits: [], charset: 'utf8mb4' });
      all.push(dump);
      all.finish();
      assert.deepEqual(some.tables, all.tables);
      if (changed.size > 0)
        assert.ok(!new RowChanges(bench, [table], { edits: [], charset: 'utf8mb4' }).takeRemembered([]));
    }),
    {
      numRuns: effort(20, 200),
      // A change that is taken back: nothing is opened at all.
      examples: [
        [
          [
            { at: 3, what: 'new' },
            { at: 3, what: 'gone' },
          ],
        ],
      ],
    },
  );
});
