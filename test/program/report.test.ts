import assert from 'node:assert/strict';
import { readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { test } from 'node:test';
import { parse } from 'parse5';
import { makeClub, newPassword } from '../help/club.js';
import { folder, run } from '../help/program.js';

interface Node {
  readonly nodeName: string;
  readonly value?: string;
  readonly attrs?: readonly { readonly name: string; readonly value: string }[];
  readonly childNodes?: readonly Node[];
}

/** Everything in a page, in its order. */
function nodesOf(node: Node): Node[] {
  return [node, ...(node.childNodes ?? []).flatMap(nodesOf)];
}

test('the report tells what was measured, harmlessly, and no more than was looked at', async t => {
  const root = folder(t);
  const move = await makeClub(root);
  const page = async () => {
    const ran = await run(['report'], { cwd: move });
    assert.equal(ran.code, 0, ran.stderr);
    const text = readFileSync(join(move, 'report.html'), 'utf8');
    assert.ok(!text.includes(newPassword));
    const nodes = nodesOf(parse(text) as unknown as Node);
    // It needs nothing from elsewhere, and runs nothing.
    assert.ok(nodes.every(({ nodeName }) => !/^(?:script|img|link|iframe|object|form)$/.test(nodeName)));
    assert.ok(
      nodes.every(({ attrs = [] }) =>
        attrs.every(
          ({ name, value }) => !/^(?:on|src|href)/.test(name) || (name === 'href' && value.startsWith('#')),
        ),
      ),
    );
    return nodes.map(({ value }) => value?.trim() ?? '').join(' ');
  };
  assert.match(await page(), /not compared with the old one yet/);
  const twice = [await page(), await page()];
  assert.equal(twice[0], twice[1], 'of the same move the page is the same');
  // What a site names its things is not to be trusted.
  writeFileSync(join(root, 'old/site/<img src=x onerror=alert(1)>.txt'), 'x');
  for (const step of ['pack', 'rewrite', 'deliver']) {
    const ran = await run([step, '--yes'], { cwd: move });
    assert.equal(ran.code, 0, ran.stderr);
  }
  const checked = await run(['check', '--json'], { cwd: move });
  const { result } = JSON.parse(checked.stdout);
  const right = await page();
  assert.match(right, /Not everything was looked at: tables, pages\./);
  for (const { newTable } of result.tables) assert.ok(right.includes(newTable), newTable);
  assert.match(right, new RegExp(`${result.files.compared} files compared by checksum`));
  assert.equal((await run(['deliver', '--yes', '--again'], { cwd: move })).code, 0);
  assert.match(await page(), /changed by a step since it was compared/);
  rmSync(join(root, 'new/htdocs/<img src=x onerror=alert(1)>.txt'));
  assert.equal((await run(['check'], { cwd: move })).code, 1);
  const wrong = await page();
  assert.match(wrong, /1 thing stops the move/);
  assert.match(wrong, /missing\s+<img src=x onerror=alert\(1\)>\.txt/);
  assert.equal((await run(['undo', '--yes'], { cwd: move })).code, 0);
  assert.match(await page(), /not compared with the old one yet/);
});
