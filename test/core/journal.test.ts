import assert from 'node:assert/strict';
import { test } from 'node:test';
import { digestOf, type JournalRecord, journalLine, readJournal, stateOf } from '../../src/core/journal.js';

test('the journal shows the state of a step, past a truncated line, undo and tidy', () => {
  const line = (record: Partial<JournalRecord>) => journalLine({ at: 't', ...record } as JournalRecord);
  const text = [
    line({ step: 'pack', event: 'done' }),
    line({ step: 'deliver', event: 'began' }),
    line({ step: 'deliver', event: 'did', deed: { kind: 'put', place: '/new' } }),
    '{"at":"t","st',
  ].join('');
  const records = readJournal(text);
  assert.equal(stateOf(records, 'deliver').state, 'begun');
  assert.equal(stateOf(records, 'check').state, 'not yet');
  const undone = readJournal(
    `${line({ step: 'deliver', event: 'done' })}${line({ step: 'undo', event: 'done' })}`,
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
      () => readJournal(journalLine({ at: 't', step: 'deliver', event: 'did', deed } as JournalRecord)),
      /another version/,
    );
});

test('a line of the journal that was changed stops what depends on it, wherever a byte differs', () => {
  const lines = ['/new', '/é "}'].map(place =>
    journalLine({ at: 't', step: 'deliver', event: 'did', deed: { kind: 'put', place } }),
  );
  const text = lines.join('');
  assert.equal(readJournal(text).length, 2);
  for (let at = 0; at < text.length; at++) {
    const changed = `${text.slice(0, at)}${text[at] === 'x' ? 'y' : 'x'}${text.slice(at + 1)}`;
    // Without its end the last line is one that was cut short.
    if (at === text.length - 1) assert.equal(readJournal(changed).length, 1);
    else assert.throws(() => readJournal(changed), /line [12] of the journal/);
  }
  for (let cut = 0; cut < text.length; cut++)
    assert.equal(readJournal(text.slice(0, cut)).length, cut >= lines[0]!.length ? 1 : 0);
});
