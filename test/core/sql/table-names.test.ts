import assert from 'node:assert/strict';
import { test } from 'node:test';
import { applyEdits, asBytes } from '../../../src/core/bytes.js';
import { prefixesIn } from '../../../src/core/site/survey/site-tables.js';
import { readCreateTable } from '../../../src/core/sql/create-table.js';
import { renameTables } from '../../../src/core/sql/table-names.js';

const rename = (name: string) => (name.startsWith('sr4_') ? `row_${name.slice(4)}` : undefined);

const cases: [string, string][] = [
  ['LOCK TABLES "sr4_a" WRITE, "sr4_b" READ', 'LOCK TABLES "row_a" WRITE, "row_b" READ'],
  [
    'CREATE TABLE "sr4_a" ("sr4_col" text DEFAULT "sr4_b")',
    'CREATE TABLE "row_a" ("sr4_col" text DEFAULT "sr4_b")',
  ],
  ['DROP TABLE IF EXISTS `sr4_a`, sr4_b', 'DROP TABLE IF EXISTS `row_a`, row_b'],
  ['LOCK TABLES `sr4_a` WRITE, `sr4_b` READ', 'LOCK TABLES `row_a` WRITE, `row_b` READ'],
  ['/*!40000 ALTER TABLE `sr4_a` DISABLE KEYS */', '/*!40000 ALTER TABLE `row_a` DISABLE KEYS */'],
  [
    "CREATE TABLE `sr4_a` (`sr4_col` int COMMENT 'of sr4_b', KEY `sr4_key` (`sr4_col`))",
    "CREATE TABLE `row_a` (`sr4_col` int COMMENT 'of sr4_b', KEY `sr4_key` (`sr4_col`))",
  ],
  [
    'ALTER TABLE `sr4_a` ADD CONSTRAINT `x` FOREIGN KEY (`b`) REFERENCES `sr4_b` (`id`)',
    'ALTER TABLE `row_a` ADD CONSTRAINT `x` FOREIGN KEY (`b`) REFERENCES `row_b` (`id`)',
  ],
  [
    'CREATE TRIGGER `t` AFTER UPDATE ON `sr4_a` FOR EACH ROW INSERT INTO sr4_log VALUES (1)',
    'CREATE TRIGGER `t` AFTER UPDATE ON `row_a` FOR EACH ROW INSERT INTO row_log VALUES (1)',
  ],
  [
    '/*!50001 VIEW `sr4_v` AS select `sr4_a`.`id` AS `id` from (`sr4_a` join `sr4_b` on(`sr4_a`.`id` = `sr4_b`.`id`)) */',
    '/*!50001 VIEW `row_v` AS select `row_a`.`id` AS `id` from (`row_a` join `row_b` on(`row_a`.`id` = `row_b`.`id`)) */',
  ],
  ['-- about sr4_a\nTRUNCATE TABLE `db`.`sr4_a`', '-- about sr4_a\nTRUNCATE TABLE `db`.`row_a`'],
  [
    'UPDATE sr4_a SET x = (SELECT y FROM sr4_b WHERE sr4_b.z = "sr4_c")',
    'UPDATE row_a SET x = (SELECT y FROM row_b WHERE row_b.z = "sr4_c")',
  ],
];

for (const [before, after] of cases) {
  test(`tables are renamed in: ${before}`, () => {
    assert.equal(applyEdits(asBytes(before), renameTables(before, 0, before.length, rename)), after);
  });
}

test('a table’s columns are read, not its keys', () => {
  const shape = readCreateTable(
    "CREATE TABLE IF NOT EXISTS `db`.`t` (`a``b` int, plain text DEFAULT 'x,y)', `key` int, PRIMARY KEY (`a``b`,`key`), CHECK (plain <> ''))",
  );
  assert.deepEqual(shape, {
    name: 't',
    columns: ['a`b', 'plain', 'key'],
    types: ['int', 'text', 'int'].map(type => ({ type, generated: false })),
  });
});

test('prefixes are those that all core tables have', () => {
  const tables = [
    'wp_options',
    'wp_posts',
    'wp_users',
    'wp_2_options',
    'wp_2_posts',
    'shop_options',
    'shop_posts',
    'shop_users',
    'my_options',
  ];
  assert.deepEqual(prefixesIn(tables, ['options', 'posts', 'users']), ['wp_', 'shop_']);
});
