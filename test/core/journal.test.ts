import assert from 'node:assert/strict';
import { test } from 'node:test';
import { digestOf, type JournalRecord, readJournal, stateOf } from '../../src/core/journal.js';

test('the journal shows the state of a step, past a truncated line, undo and tidy', () => {
  const line = (record: Partial<JournalRecord>) => JSON.stringify({ at: 't', ...record });
  const text = [
    line({ step: 'pack', event: 'done' }),
    line({ step: 'deliver', event: 'began' }),
    line({ step: 'deliver', event: 'did', deed: { kind: 'put', place: '/new' } }),
    '{"at":"t","st',
  ].join('\n');
  const records = readJournal(text);
  assert.equal(stateOf(records, 'deliver').state, 'begun');
  assert.equal(stateOf(records, 'check').state, 'not yet');
  const undone = readJournal(
    `${line({ step: 'deliver', event: 'done' })}\n${line({ step: 'undo', event: 'done' })}`,
  );
  assert.equal(stateOf(undone, 'deliver').state, 'not yet');
  assert.equal(
    stateOf([...records, ...readJournal(line({ step: 'tidy', event: 'done' }))], 'pack').state,
    'not yet',
  );
});

test('a digest does not depend on the order of keys', () => {
  assert.equal(digestOf({ a: 1, b: [{ c: 2, d: undefined }] }), digestOf({ b: [{ c: 2 }], a: 1 }));
  assert.notEqual(digestOf({ a: ['b', 'c'] }), digestOf({ a: ['b,c'] }));
});

test('a journal of another version is refused, not read by halves', () => {
  for (const deed of [undefined, { kind: 'painted', place: '/new' }, { kind: 'toString' }])
    assert.throws(
      () => readJournal(JSON.stringify({ at: 't', step: 'deliver', event: 'did', deed })),
      /another version/,
    );
});
