import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { UsageError } from '../../../src/core/errors.js';
import { TicketJudge } from '../../../src/core/handover/judge.js';
import { Received } from '../../../src/core/handover/received.js';
import { readTicket, writeTicket } from '../../../src/core/handover/ticket.js';

const hex = (length: number) => fc.stringMatching(new RegExp(`^[0-9a-f]{${length}}$`));
const tickets = fc.record({
  addresses: fc.uniqueArray(fc.constantFrom('192.0.2.7:443', '[2001:db8::1]:8443', 'old-host.example:1'), {
    minLength: 1,
  }),
  fingerprint: hex(64),
  secret: hex(32),
  ends: fc.nat(4e12),
});

test('a ticket is read as it was written, and not at all where a letter of it is another one or missing', () => {
  fc.assert(
    fc.property(tickets, fc.nat(), fc.constantFrom('', 'x', '-', ' '), (ticket, at, instead) => {
      const text = writeTicket(ticket);
      assert.deepEqual(readTicket(` ${text}\n`), { ...ticket });
      const place = at % text.length;
      const bent = text.slice(0, place) + instead + text.slice(place + 1);
      if (bent.trim() !== text) assert.throws(() => readTicket(bent), UsageError);
    }),
  );
  for (const address of ['a b:1', 'host', 'host:1/x', 'user@host:1'])
    assert.throws(
      () =>
        readTicket(
          writeTicket({ addresses: [address], fingerprint: 'a'.repeat(64), secret: 'b'.repeat(32), ends: 1 }),
        ),
      UsageError,
    );
});

test('a ticket lets one collector in, until the crate is whole, its time is over, or five tries were wrong', () => {
  const ticket = { secret: 'ebb', ends: 1000 };
  const fresh = () => new TicketJudge(ticket);
  const judge = fresh();
  assert.equal(judge.refuses('ebb', 'one', 1), undefined);
  assert.equal(judge.refuses('ebb', 'two', 2), 'another collector');
  assert.equal(judge.refuses('ebb', 'one', 3), undefined);
  judge.done();
  assert.equal(judge.refuses('ebb', 'two', 4), 'used');
  assert.equal(judge.refuses('ebb', 'one', 1000), 'used' === judge.dead ? undefined : 'late');
  assert.equal(fresh().refuses('ebb', 'one', 1000), 'late');
  const tried = fresh();
  for (let i = 0; i < 4; i++) assert.equal(tried.refuses('flood', 'x', 1), 'wrong secret');
  assert.equal(tried.refuses('ebb', 'one', 1), undefined, 'four wrong tries of others do no harm');
  assert.equal(tried.refuses('flood', 'x', 1), 'wrong secret');
  assert.equal(tried.refuses('ebb', 'one', 1), 'wrong secret', 'after the fifth nobody gets in');
});

test('how far parts have come is known from any beginning of what was noted, also where a line was cut short', () => {
  const act = fc.record({
    part: fc.nat(5),
    bytes: fc.nat(1000),
    end: fc.constantFrom(undefined, 'whole', 'again'),
  });
  fc.assert(
    fc.property(fc.array(act, { maxLength: 20 }), fc.nat(), (acts, cut) => {
      const received = new Received([]);
      const lines = acts.map(({ part, bytes, end }) => received.take(part, bytes, end));
      const same = (a: Received, b: Received) => {
        for (let part = 0; part <= 5; part++)
          assert.deepEqual([a.of(part), a.isWhole(part)], [b.of(part), b.isWhole(part)]);
      };
      same(new Received(lines.join('').split('\n')), received);
      // What is cut short may only say less of the one part that it is of.
      const text = lines.join('');
      const some = text.slice(0, cut % (text.length + 1));
      const whole = some.slice(0, some.lastIndexOf('\n') + 1);
      const [cutOff, before] = [new Received(some.split('\n')), new Received(whole.split('\n'))];
      const last = Number(some.slice(whole.length).split(' ')[0]);
      for (let part = 0; part <= 5; part++) if (part !== last) assert.equal(cutOff.of(part), before.of(part));
    }),
  );
});
