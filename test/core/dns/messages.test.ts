import assert from 'node:assert/strict';
import { test } from 'node:test';
import { type Answer, decode, encode } from 'dns-packet';
import fc from 'fast-check';
import {
  dnsClass,
  type Message,
  messageFromWire,
  messageToWire,
  noFlags,
  questionMessage,
} from '../../../src/core/dns/message/message.js';
import { TransferReader } from '../../../src/core/dns/message/transfer.js';
import {
  judgeRequest,
  signAnswer,
  signMessage,
  type TsigKey,
  TsigVerifier,
} from '../../../src/core/dns/message/tsig.js';
import { updateMessage } from '../../../src/core/dns/message/update.js';
import { parseName } from '../../../src/core/dns/records/name.js';
import { recordLine, recordOfLine } from '../../../src/core/dns/records/record.js';
import { effort } from '../../help/effort.js';
import { apex, someRecords } from '../../help/zone-files.js';

test('messages that a well-kept package writes, with compressed names, are read as it meant them, and the other way round', () => {
  const host = fc.constantFrom('www.club.example', 'club.example', 'mail.club.example', 'a.other.example');
  const answer: fc.Arbitrary<Answer> = fc
    .tuple(host, host, fc.integer({ min: 0, max: 65_535 }), fc.ipV4(), fc.ipV6())
    .chain(([name, target, number, four, six]) =>
      fc.constantFrom<Answer>(
        { type: 'A', name, ttl: number, data: four },
        { type: 'AAAA', name, ttl: number, data: six },
        { type: 'CNAME', name, ttl: number, data: target },
        { type: 'NS', name, ttl: number, data: target },
        { type: 'MX', name, ttl: number, data: { preference: number, exchange: target } },
        { type: 'SRV', name, ttl: number, data: { priority: 1, weight: number, port: 443, target } },
        { type: 'TXT', name, ttl: number, data: ['v=spf1 -all', `"${number}"`] },
        {
          type: 'SOA',
          name,
          ttl: number,
          data: { mname: target, rname: name, serial: number, refresh: 1, retry: 2, expire: 3, minimum: 4 },
        },
      ),
    );
  fc.assert(
    fc.property(fc.array(answer, { maxLength: 12 }), fc.nat(65_535), (answers, id) => {
      const theirs = encode({
        type: 'response',
        id,
        questions: [{ type: 'A', name: 'www.club.example' }],
        answers,
      });
      const read = messageFromWire(theirs);
      const again = decode(messageToWire(read));
      assert.deepEqual(again.answers, decode(theirs).answers);
      assert.deepEqual([read.id, read.flags.isResponse], [id, true]);
    }),
    { numRuns: effort(200, 3000) },
  );
  assert.deepEqual(decode(messageToWire(questionMessage(7, apex, 'AAAA', { recursive: true }))).questions, [
    { name: 'saltmarsh.example', type: 'AAAA', class: 'IN' },
  ]);
});

test('any records go through a message and a transfer as they are', () => {
  fc.assert(
    fc.property(someRecords, fc.integer({ min: 1, max: 5 }), (records, size) => {
      const all = [...records, records[0]!].map(record => ({ ...record, class: dnsClass.IN }));
      const reader = new TransferReader(apex);
      let isWhole = false;
      for (let at = 0; at < all.length; at += size) {
        const message: Message = {
          ...questionMessage(1, apex, 'AXFR'),
          flags: { ...noFlags, isResponse: true },
          answers: all.slice(at, at + size),
        };
        assert.ok(!isWhole);
        isWhole = reader.push(messageFromWire(messageToWire(message)));
      }
      assert.ok(isWhole);
      assert.deepEqual(reader.records.map(recordLine), records.map(recordLine));
      for (const record of records)
        assert.deepEqual(recordLine(recordOfLine(recordLine(record))), recordLine(record));
    }),
    { numRuns: effort(200, 3000) },
  );
});

test('whatever bytes come, a message is read or refused, and never without end', () => {
  const whole = messageToWire({
    ...questionMessage(1, apex, 'MX'),
    answers: [
      { ...recordOfLine('saltmarsh.example. 60 IN MX 5 mail.saltmarsh.example.'), class: dnsClass.IN },
    ],
  });
  const cutAndBent = fc.tuple(
    fc.nat(whole.length),
    fc.array(fc.tuple(fc.nat(whole.length - 1), fc.nat(255)), { maxLength: 6 }),
  );
  fc.assert(
    fc.property(cutAndBent, ([length, bends]) => {
      const wire = Buffer.from(whole);
      for (const [at, byte] of bends) wire[at] = byte;
      try {
        messageToWire(messageFromWire(wire.subarray(0, length)));
      } catch (error) {
        assert.ok(error instanceof Error);
      }
    }),
    { numRuns: effort(1000, 20_000) },
  );
});

test('a signature is for these bytes, this key, this time and this request alone', () => {
  const key: TsigKey = { name: parseName('porter'), algorithm: 'hmac-sha256', secret: Buffer.from('secret') };
  const other = { ...key, secret: Buffer.from('other') };
  const now = 1_796_000_000;
  const wire = messageToWire(updateMessage(9, apex, []));
  const request = signMessage(wire, key, now);
  const judged = (bytes: Buffer, keys = [key], at = now) => judgeRequest(bytes, keys, at)?.error;
  assert.equal(judged(request.wire), 0);
  assert.equal(judged(wire), undefined);
  assert.equal(judged(request.wire, [other]), 16);
  assert.equal(judged(request.wire, []), 17);
  assert.equal(judged(request.wire, [key], now + 301), 18);
  const bent = Buffer.from(request.wire);
  bent[13]! ^= 1;
  assert.notEqual(judged(bent), 0);
  const answer = signAnswer(wire, judgeRequest(request.wire, [key], now)!, now);
  const verify = (bytes: Buffer, by = key, mac = request.mac, at = now) => {
    const verifier = new TsigVerifier(by, mac, () => at);
    verifier.verify(bytes);
    verifier.end();
  };
  verify(answer);
  assert.throws(() => verify(answer, other), /wrong/);
  assert.throws(() => verify(answer, key, Buffer.alloc(32)), /wrong/);
  assert.throws(() => verify(answer, key, request.mac, now - 400), /differ by 400 seconds/);
  assert.throws(() => verify(wire), /not signed/);
});
