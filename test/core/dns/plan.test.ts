import assert from 'node:assert/strict';
import { test } from 'node:test';
import { planCutover } from '../../../src/core/dns/plan.js';

test('a cutover under one name changes its record; a new name leaves the old one', () => {
  const records = { old: '192.0.2.10', new: '2001:db8::20' };
  const same = planCutover({
    oldHost: 'a.example',
    newHost: 'a.example',
    records,
    ttl: 86400,
    zone: undefined,
  });
  assert.deepEqual(same.records, [
    {
      host: 'a.example',
      before: 'a.example. 86400 IN A 192.0.2.10',
      after: 'a.example. 300 IN AAAA 2001:db8::20',
    },
  ]);
  assert.match(same.steps[0]!.when, /1 day before/);
  const other = planCutover({
    oldHost: 'a.example',
    newHost: 'b.example',
    records,
    ttl: undefined,
    zone: undefined,
  });
  assert.equal(other.records[0]!.before, undefined);
  assert.ok(other.keep.some(line => line.includes('MX')) && other.keep[0]!.includes('192.0.2.10'));
});
