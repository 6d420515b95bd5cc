import assert from 'node:assert/strict';
import { randomBytes } from 'node:crypto';
import { test } from 'node:test';
import { parseAddress } from '../../../src/core/address/address.js';
import { DumpContent } from '../../../src/core/database/content/dump-content.js';
import { DumpEdits } from '../../../src/core/database/dump-edits.js';
import { wordpressEdits } from '../../../src/core/site/data/wordpress-data.js';
import { bench } from '../../help/bench.js';

const rows = [
  "(1,'home','http://192.0.2.7')",
  "(2,'_transient_x','1')",
  "(3,'xtransient_x','1')",
  '(4,\'active_plugins\',\'a:2:{i:0;s:11:"cache/c.php";i:1;s:5:"b.php";}\')',
  "(5,'blogname','O\\'Hara \\\\ Sons')",
  "(6,'rewrite_rules','x')",
];
const create =
  'CREATE TABLE `row_options` (`option_id` int, `option_name` varchar(191), `option_value` longtext);\n';
const dump = (list: readonly string[]) =>
  Buffer.from(`${create}INSERT INTO \`row_options\` VALUES ${list.join()};\n`);
const edits = wordpressEdits({
  oldAddress: parseAddress('https://old.example'),
  oldAddresses: [parseAddress('https://old.example')],
  newAddress: parseAddress('https://new.example'),
  prefix: 'row_',
  tables: ['row_options'],
  title: `It's "new" \\ é`,
  searchEngines: 'keep',
  holdsBack: name => /cache/.test(name),
  random: randomBytes,
});

test('what is set right in a dump is worked out from its rows, each statement once and safely quoted', () => {
  const reader = new DumpEdits(bench, edits);
  reader.push(dump(rows));
  reader.finish();
  const statements = reader
    .tail()
    .toString()
    .split('\n')
    .filter(line => /^(?:UPDATE|DELETE)/.test(line));
  assert.deepEqual(statements, [
    "UPDATE `row_options` SET `option_value` = 'https://new.example' WHERE `option_id` = '1';",
    "DELETE FROM `row_options` WHERE (`option_name` LIKE '\\\\_transient\\\\_%' OR `option_name` LIKE '\\\\_site\\\\_transient\\\\_%');",
    "UPDATE `row_options` SET `option_value` = 'a:1:{i:0;s:5:\"b.php\";}' WHERE `option_id` = '4';",
    "UPDATE `row_options` SET `option_value` = 'It''s \"new\" \\\\ é' WHERE `option_id` = '5';",
    "DELETE FROM `row_options` WHERE `option_name` = 'rewrite_rules';",
  ]);
  const held = [...reader.done.values()].flatMap(one => one.held);
  assert.deepEqual(held, ['cache/c.php']);
});

test('an export after the edits has the digest that the dump with the edits in mind has', () => {
  const digest = (list: readonly string[], mind: typeof edits) => {
    const content = new DumpContent(bench, { edits: mind });
    content.push(dump(list));
    content.finish();
    return content.contents().get('row_options');
  };
  const after = [
    "(1,'home','https://new.example')",
    rows[2]!,
    "(4,'active_plugins','a:1:{i:0;s:5:\"b.php\";}')",
    "(5,'blogname','It''s \"new\" \\\\ é')",
  ];
  assert.deepEqual(digest(rows, edits), digest(after, []));
  assert.deepEqual(digest(after, edits), digest(after, []), 'done again, nothing changes');
  assert.notDeepEqual(digest(rows, []), digest(after, []));
});
