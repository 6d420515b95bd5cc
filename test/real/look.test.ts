import assert from 'node:assert/strict';
import { mkdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { type TestContext, test } from 'node:test';
import { PNG } from 'pngjs';
import type { Finding } from '../../src/core/findings/findings.js';
import { comparePictures } from '../../src/core/pages/pictures/compare-pictures.js';
import { folder, run } from '../help/program.js';
import { needs } from '../help/real.js';

const [oldAddress, newAddress] = ['https://club.saltmarsh.example/site', 'https://saltmarshrowing.example'];

/** A picture with rectangles on white. */
function picture(
  width: number,
  height: number,
  ...boxes: [x: number, y: number, width: number, height: number, grey: number][]
): Buffer {
  const png = new PNG({ width, height });
  png.data.fill(255);
  for (const [x, y, w, h, grey] of boxes)
    for (let row = y; row < y + h; row++)
      for (let column = x; column < x + w; column++)
        png.data.fill(grey, (row * width + column) * 4, (row * width + column) * 4 + 3);
  return PNG.sync.write(png);
}

test('pictures differ where they differ, and not where the old page changes on its own', () => {
  const plain = picture(200, 100, [10, 10, 50, 20, 0]);
  assert.deepEqual(comparePictures([plain, plain], [plain]), {
    share: 0,
    marked: undefined,
    around: undefined,
  });
  const moved = comparePictures([plain, plain], [picture(200, 100, [110, 40, 50, 20, 0])]);
  assert.deepEqual(moved.around, { x: 10, y: 10, width: 150, height: 50 });
  assert.ok(Math.abs(moved.share - 0.1) < 0.001);
  const clock = (grey: number) => picture(200, 100, [150, 80, 20, 8, grey]);
  assert.equal(comparePictures([clock(0), clock(90)], [clock(200)]).share, 0);
  assert.ok(comparePictures([clock(0), clock(90)], [picture(200, 100, [10, 10, 50, 20, 0])]).share > 0.04);
  // What changes can look the same twice by chance; a third look, or a second one at the new page, shows it.
  assert.ok(comparePictures([clock(0), clock(0)], [clock(200)]).share > 0);
  assert.equal(comparePictures([clock(0), clock(0), clock(90)], [clock(200)]).share, 0);
  assert.equal(comparePictures([clock(0), clock(0)], [clock(90), clock(200)]).share, 0);
  const taller = comparePictures(
    [plain, plain],
    [picture(200, 140, [10, 10, 50, 20, 0], [0, 120, 200, 10, 0])],
  );
  assert.deepEqual(taller.around, { x: 0, y: 120, width: 200, height: 10 });
  assert.equal(PNG.sync.read(taller.marked!).height, 140);
});

/** A site with a style sheet, an image, and a box of another colour each time. */
async function site(t: TestContext, address: string, spoiled: () => boolean): Promise<number> {
  const base = new URL(address).pathname.replace(/\/$/, '');
  const image = picture(80, 40, [0, 0, 80, 40, 100]);
  let looked = 0;
  const server = createServer(({ url }, response) => {
    const path = url!.slice(base.length);
    const give = (type: string, body: string | Buffer) =>
      response.writeHead(200, { 'content-type': type }).end(body);
    const isSpoiled = spoiled();
    if (path === '/style.css' && !isSpoiled)
      return give(
        'text/css',
        'body { background: #dde; font-family: sans-serif } h1 { color: #046 } .box { width: 60px; height: 60px }',
      );
    if (path === '/boat.png' && !isSpoiled) return give('image/png', image);
    if (path !== '/' && path !== '/crew/') return response.writeHead(404).end('no');
    const grey = (looked++ % 3) * 90;
    return give(
      'text/html; charset=utf-8',
      `<!doctype html><html><head><title>Club</title><link rel="stylesheet" href="${address}/style.css"></head><body><h1>Rowing</h1><p>Find us at ${address}/ and <a href="${address}/crew/">meet the crew</a></p><img src="${address}/boat.png" width="80" height="40" alt="boat"><div class="box" style="background: rgb(${grey},${grey},${grey})"></div>${isSpoiled ? '<script>tide.turn();</script>' : ''}</body></html>`,
    );
  });
  await new Promise<void>(resolve => server.listen(0, '127.0.0.1', resolve));
  t.after(() => {
    server.closeAllConnections();
    server.close();
  });
  return (server.address() as AddressInfo).port;
}

test('a browser shows both sites before the DNS leads there, and what differs is marked', {
  timeout: 300_000,
}, async t => {
  if (!needs(t, 'chromium')) return;
  const root = folder(t);
  let spoiled = false;
  const [old, next] = [await site(t, oldAddress, () => false), await site(t, newAddress, () => spoiled)];
  for (const name of ['old', 'new', 'move']) mkdirSync(join(root, name));
  writeFileSync(join(root, 'old/index.html'), '<h1>Club</h1>');
  const cwd = join(root, 'move');
  writeFileSync(
    join(cwd, 'move.yaml'),
    `name: club\nold: { address: ${oldAddress}, files: ../old, reach: "http://127.0.0.1:${old}" }\nnew: { address: ${newAddress}, files: ../new, reach: "http://127.0.0.1:${next}" }\ntake: { database: false }\n`,
  );
  for (const step of ['pack', 'rewrite', 'deliver'])
    assert.equal((await run([step, '--yes'], { cwd })).code, 0);
  const look = async () => {
    const { stdout, stderr } = await run(['check', '--look', '--json'], { cwd });
    assert.ok(stdout.startsWith('{'), stderr);
    const { findings, result } = JSON.parse(stdout) as {
      findings: Finding[];
      result: { looks: { share: number }[] };
    };
    return {
      shares: result.looks.map(({ share }) => share),
      found: findings.filter(({ code }) => code.startsWith('look-')),
    };
  };
  const clean = await look();
  assert.deepEqual([clean.found, clean.shares], [[], [0, 0, 0, 0]]);
  spoiled = true;
  const { found, shares } = await look();
  assert.ok(
    shares.every(share => share > 0.1) && shares.every((share, i) => i === 0 || share <= shares[i - 1]!),
    shares.join(),
  );
  const said = (code: string) =>
    found
      .filter(one => one.code === code)
      .map(({ what }) => what)
      .join(' ');
  assert.match(said('look-differs'), /^4 of 4 pictures look different .*\/crew\//);
  assert.match(said('look-console-error'), /tide is not defined/);
  assert.match(said('look-request-failed'), /style\.css \(404\)/);
  const written = readFileSync(join(cwd, 'check.html'), 'utf8');
  assert.match(written, /4 of 4 pairs of pictures look different/);
  assert.ok(!/(?:src|href)="(?!data:image\/png|#)/.test(written), 'it needs nothing else');
  assert.equal(statSync(join(cwd, 'check.html')).mode & 0o077, 0);
  // Without a browser the rest is compared all the same, and that is said.
  writeFileSync(
    join(cwd, 'move.yaml'),
    `${readFileSync(join(cwd, 'move.yaml'), 'utf8')}check: { browser: /nowhere/chromium }\n`,
  );
  const without = await look();
  assert.deepEqual(
    without.found.map(({ code, level }) => `${level} ${code}`),
    ['note look-browser-missing'],
  );
});
