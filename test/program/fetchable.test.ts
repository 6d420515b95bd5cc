import assert from 'node:assert/strict';
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { test } from 'node:test';
import { folder, run } from '../help/program.js';

test('what waits in the web root of another site is asked for: where visitors could fetch it, nothing goes there', async t => {
  const root = folder(t);
  const at = (...parts: string[]) => join(root, ...parts);
  for (const path of ['old', 'new', 'move']) mkdirSync(at(path));
  writeFileSync(at('old/index.html'), 'moved');
  let refuses = false;
  const asked: string[] = [];
  const server = createServer((request, answer) => {
    const path = decodeURIComponent(request.url!);
    asked.push(path);
    const file = at('new', path);
    const isClosed = refuses && path.includes('/.');
    if (isClosed || !existsSync(file) || path.endsWith('/')) answer.writeHead(404).end();
    else answer.end(readFileSync(file));
  });
  const { port } = await new Promise<AddressInfo>(resolve =>
    server.listen(0, '127.0.0.1', () => resolve(server.address() as AddressInfo)),
  );
  t.after(() => server.close());
  const sheet = (address: string, reach = '') =>
    writeFileSync(
      at('move/move.yaml'),
      `name: club\nold: { address: https://old.example, files: ../old }\nnew: { address: ${address}, files: ../new/club${reach} }\n`,
    );
  const step = async (...args: string[]) => run([...args, '--yes', '--json'], { cwd: at('move') });
  const codes = (stdout: string) => JSON.parse(stdout).findings.map(({ code }: { code: string }) => code);
  sheet('https://club.example/club', `, reach: "http://127.0.0.1:${port}"`);

  assert.equal((await step('pack')).code, 0);
  for (const one of ['survey', 'deliver']) {
    const { code, stdout } = await step(one);
    assert.deepEqual([code, codes(stdout).includes('waiting-fetchable')], [1, true], one);
    assert.deepEqual(readdirSync(at('new')), [], one);
  }

  refuses = true;
  const surveyed = await step('survey');
  assert.deepEqual([surveyed.code, codes(surveyed.stdout).includes('waiting-fetchable')], [0, false]);
  asked.length = 0;
  const delivered = await step('deliver');
  assert.deepEqual([delivered.code, codes(delivered.stdout)], [0, []]);
  assert.ok(
    asked.some(path => path.startsWith('/.able-porter.club/')),
    asked.join(),
  );
  assert.deepEqual(readdirSync(at('new')), ['club']);

  // Nobody can be asked, and that is reported.
  await step('undo');
  sheet('https://club.example/club');
  assert.deepEqual(codes((await step('deliver')).stdout), ['waiting-not-asked']);
  assert.deepEqual(readdirSync(at('new')), ['club']);
});
