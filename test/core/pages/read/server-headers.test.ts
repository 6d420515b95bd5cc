import assert from 'node:assert/strict';
import { test } from 'node:test';
import {
  type AskedPage,
  pageFindings,
  readServerHeaders,
} from '../../../../src/core/pages/read/server-headers.js';

const asked: AskedPage = {
  which: 'home page',
  url: 'https://club.example/',
  status: 200,
  html: '',
  address: 'https://club.example/',
  headers: {},
};
const codes = (change: Partial<AskedPage>, trouble?: string) =>
  pageFindings({ ...asked, ...change }, trouble).map(({ level, code }) => `${level} ${code}`);

test('how a page of the old site answers', () => {
  assert.deepEqual(codes({}), []);
  assert.deepEqual(codes({ address: 'https://www.club.example/' }), ['warn old-sent-elsewhere']);
  assert.deepEqual(codes({ address: 'http://club.example/' }), ['warn old-scheme-differs']);
  assert.deepEqual(codes({ which: 'login page', address: 'https://login.example/' }), []);
  assert.deepEqual(codes({ status: 503 }), ['warn old-in-maintenance']);
  assert.deepEqual(codes({ status: 403 }), ['note old-locked']);
  assert.deepEqual(codes({ status: 500 }), ['stop old-home-broken']);
  assert.deepEqual(codes({ status: 404, which: 'login page' }), ['note old-login-missing']);
  assert.deepEqual(codes({ status: 500 }, 'database error'), ['stop old-not-well']);
  assert.deepEqual(codes({ html: '<meta name="robots" content="noindex">' }), ['note old-not-indexed']);
  assert.deepEqual(codes({ headers: { 'x-robots-tag': 'noindex' } }), ['note old-not-indexed']);
});

test('a cache in front is seen by its headers, and a rule for browsers is none', () => {
  const { server, between } = readServerHeaders({
    server: 'nginx',
    'cache-control': 'max-age=60',
    via: '1.1 edge.example',
    'x-cache': 'HIT',
    date: 'now',
  });
  assert.equal(server, 'nginx');
  assert.deepEqual(between, ['via: 1.1 edge.example', 'x-cache: HIT']);
});
