import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import type { ByteString } from '../../../src/core/bytes.js';
import { editZoneFile } from '../../../src/core/dns/master-file/edit.js';
import { readZoneFile, type ZoneFile } from '../../../src/core/dns/master-file/read.js';
import { ZoneFileError } from '../../../src/core/dns/master-file/words.js';
import { dataFromText, dataToText } from '../../../src/core/dns/records/data.js';
import { keyOf } from '../../../src/core/dns/records/name.js';
import { type DnsRecord, recordKeyOf, recordLine, setKeyOf } from '../../../src/core/dns/records/record.js';
import { nextSerial } from '../../../src/core/dns/zone/serial.js';
import { reversed, type SetChange, sameSet } from '../../../src/core/dns/zone/set-change.js';
import { effort } from '../../help/effort.js';
import { apex, serial, someHand, someRecords, tidied, writtenBy } from '../../help/zone-files.js';

const noFiles = (): never => {
  throw new Error('no other file');
};

function read(text: string): ZoneFile {
  return readZoneFile({ text: text as ByteString, origin: apex, include: noFiles });
}

test('a zone that is written by any hand is read as it was', () => {
  fc.assert(
    fc.property(someRecords, someHand, (records, hand) => {
      const text = writtenBy(hand, records);
      assert.deepEqual(read(text).records.map(recordLine), records.map(recordLine), text);
      for (const { type, data } of records)
        assert.deepEqual(dataFromText(type, dataToText(type, data)), data);
    }),
    { numRuns: effort(300, 5000) },
  );
});

test('changes of a zone file change these lines only, and back is the old zone but for its serial', () => {
  fc.assert(
    fc.property(
      someRecords,
      someHand,
      someRecords,
      fc.array(fc.nat(), { maxLength: 5 }),
      (records, hand, others, picks) => {
        const text = writtenBy(hand, records);
        const zone = read(text);
        const changes = changesOf(records, others, picks);
        const next = nextSerial(serial, Date.UTC(2026, 11, 5));
        const edited = editZoneFile(zone, changes, next).get('')!;
        const again = read(edited);
        const touched = new Set(changes.map(setKeyOf));
        const untouched = (all: readonly DnsRecord[]) =>
          all.filter(one => one.type !== 'SOA' && !touched.has(setKeyOf(one))).map(recordLine);
        assert.deepEqual(untouched(again.records), untouched(records), edited);
        for (const { name, type, after } of changes) {
          const there = again.records.filter(one => setKeyOf(one) === setKeyOf({ name, type }));
          assert.ok(sameSet(there, after, { ttl: true }), edited);
        }
        // Every line that is neither of a changed name, nor the one after it, nor the SOA's, is there to the byte.
        const names = new Set(changes.map(({ name }) => keyOf(name)));
        const kept = zone.all.filter((record, i) => {
          const above = zone.all[i - 1];
          return ![record, above].some(one => one && (one.type === 'SOA' || names.has(keyOf(one.name))));
        });
        for (const { entry } of kept) assert.ok(edited.includes(text.slice(entry.start, entry.end)), edited);
        const back = editZoneFile(again, reversed(changes), next + 1).get('')!;
        const lines = (all: readonly DnsRecord[]) =>
          all
            .filter(({ type }) => type !== 'SOA')
            .map(recordLine)
            .sort();
        assert.deepEqual(lines(read(back).records), lines(records), back);
      },
    ),
    { numRuns: effort(300, 5000) },
  );
});

/** Some sets replaced by those of other records, others taken away, or given another TTL. */
function changesOf(records: DnsRecord[], others: DnsRecord[], picks: number[]): SetChange[] {
  const changes = new Map<string, SetChange>();
  const setOf = (all: readonly DnsRecord[], key: string) => all.filter(one => setKeyOf(one) === key);
  for (const pick of picks) {
    const all = tidied([...records, ...others]).filter(({ type }) => type !== 'SOA');
    const one = all[pick % all.length];
    if (!one) continue;
    const { name, type } = one;
    const key = setKeyOf(one);
    const before = setOf(records, key);
    const after = [
      before.map(record => ({ ...record, ttl: 300 })),
      setOf(tidied(others), key),
      [...before, ...setOf(tidied(others), key)],
      before.slice(1),
    ][pick % 4]!;
    changes.set(key, { name, type, before, after: tidied(after) });
  }
  return [...changes.values()];
}

test('a set that is not as it was seen is not changed', () => {
  const zone = read('@ 60 SOA a b 1 2 3 4 5\nwww 60 A 192.0.2.1\n');
  const [seen] = read('@ 60 SOA a b 1 2 3 4 5\nwww 60 A 192.0.2.9\n').records.filter(
    ({ type }) => type === 'A',
  );
  const change = { name: seen!.name, type: 'A', before: [seen!], after: [] };
  assert.throws(() => editZoneFile(zone, [change], 2), /A records of www.* not as they were seen/);
});

test('what is included counts from the origin there, and a change is written into the file that has the line', () => {
  const texts: Record<string, string> = {
    '': '$TTL 60\n@ SOA a b 1 2 3 4 5\n$INCLUDE hosts.inc club\n MX 5 mail\n',
    'hosts.inc': 'www A 192.0.2.1\n$ORIGIN deep\nx A 192.0.2.2\n',
  };
  const readAll = (all: Record<string, string>) =>
    readZoneFile({ text: all[''] as ByteString, origin: apex, include: name => all[name] as ByteString });
  const zone = readAll(texts);
  assert.deepEqual(
    zone.records.slice(1).map(({ name, type }) => `${name} ${type}`),
    ['www.club.saltmarsh.example. A', 'x.deep.club.saltmarsh.example. A', 'saltmarsh.example. MX'],
  );
  const before = [zone.records[1]!];
  const after = [{ ...before[0]!, data: Buffer.from([198, 51, 100, 20]), ttl: 300 }];
  const edited = editZoneFile(zone, [{ ...before[0]!, before, after }], 2);
  assert.equal(edited.get('hosts.inc'), 'www 300 A 198.51.100.20\n$ORIGIN deep\nx A 192.0.2.2\n');
  assert.equal(edited.get(''), texts['']!.replace('b 1 2', 'b 2 2'));
});

test('a file that is no zone file is refused with its line', () => {
  const bad: [text: string, line: number, cause: RegExp][] = [
    ['', 1, /no SOA/],
    ['@ 60 SOA a b 1 2 3 4 5\nwww 60 A 192.0.2.300\n', 2, /no IPv4 address/],
    ['@ 60 SOA a b 1 2 3 4 5\n\nwww A "192.0.2.1\n', 3, /quote is not closed/],
    ['@ 60 SOA a b ( 1 2 3 4 5\n', 1, /parenthesis is not closed/],
    ['@ 60 SOA a b 1 2 3 4 5 )\n', 1, /closed that is not open/],
    ['@ SOA a b 1 2 3 4 5\nwww CH A 192.0.2.1\n', 2, /class CH/],
    ['www A 192.0.2.1\n', 1, /no TTL/],
    ['@ 60 SOA a b 1 2 3 4 5\nwww 60 WHAT x\n', 2, /no type/],
    ['@ 60 SOA a b 1 2 3 4 5\n@ 60 MX 10\n', 2, /missing/],
    ['@ 60 SOA a b 1 2 3 4 5\n@ 60 A 192.0.2.1 2\n', 2, /too much/],
    ['@ 60 SOA a b 1 2 3 4 5\n$INCLUDE other\n', 2, /no other file/],
    ['@ 60 SOA a b 1 2 3 4 5\n$GENERATE 1-2 a$ A 192.0.2.$\n', 2, /GENERATE is not known/],
    [`@ 60 SOA a b 1 2 3 4 5\n${'a'.repeat(64)} 60 A 192.0.2.1\n`, 2, /too long/],
    ['@ 60 SOA a b 1 2 3 4 5\na..b 60 A 192.0.2.1\n', 2, /empty label/],
    ['@ 60 SOA a b 1 2 3 4 5\n@ 60 SOA a b 1 2 3 4 5\n', 2, /second SOA/],
  ];
  for (const [text, line, cause] of bad) {
    assert.throws(
      () => read(text),
      (error: unknown) => error instanceof ZoneFileError && error.line === line && cause.test(error.message),
      text,
    );
  }
});

test('serials are raised as they were written', () => {
  const today = Date.UTC(2026, 11, 5);
  assert.equal(nextSerial(2026110901, today), 2026120501);
  assert.equal(nextSerial(2026120507, today), 2026120508);
  assert.equal(nextSerial(2027010100, today), 2027010101);
  assert.equal(nextSerial(41, today), 42);
  assert.equal(nextSerial(0xffffffff, today), 1);
});

test('two records are the same one in any letter case of their names', () => {
  const of = (name: string, data: string) =>
    recordKeyOf(read(`@ 60 SOA a b 1 2 3 4 5\n${name} 60 ${data}\n`).records[1]!);
  assert.equal(of('www', 'CNAME Club'), of('WWW', 'CNAME club'));
  assert.notEqual(of('www', 'TXT Club'), of('WWW', 'TXT club'));
});
