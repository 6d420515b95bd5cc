import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { parseAddress } from '../../../src/core/address/address.js';
import { applyEdits, asBytes, type ByteString, bytesOfText, textOf } from '../../../src/core/bytes.js';
import { familyNamed, recogniseFamily } from '../../../src/core/site/families.js';
import type { FactName, SiteMove, Wanted } from '../../../src/core/site/family.js';
import { readPhp } from '../../../src/core/site/php-source.js';
import { sheetEditsIn } from '../../../src/core/site/sheet-edits.js';
import { wordpress } from '../../../src/core/site/wordpress.js';
import { configurations, dotenvs } from '../../help/configurations.js';

const anyText = fc.string({ unit: 'grapheme', minLength: 1 }).map(bytesOfText);

/** What is left of a file when the pieces at these places are taken out. */
function without(s: string, places: readonly { start: number; end: number }[]): string {
  return places.toReversed().reduce((text, { start, end }) => text.slice(0, start) + text.slice(end), s);
}

for (const { family: name, style, source, facts: expected, editable } of configurations) {
  const family = familyNamed(name);

  test(`${name}, ${style}: facts are read past every trap`, () => {
    const facts = family.readConfiguration(source)!;
    const shown = Object.fromEntries(
      Object.entries(facts).map(([fact, { value }]) => [
        fact,
        value === undefined ? undefined : textOf(value),
      ]),
    );
    assert.deepEqual(shown, expected);
  });

  test(`${name}, ${style}: any value is written so that it is read back, and nothing else changes`, () => {
    fc.assert(
      fc.property(fc.array(anyText, { minLength: editable.length, maxLength: editable.length }), values => {
        const wanted: Wanted = Object.fromEntries(editable.map((fact, i) => [fact, values[i]!]));
        const { edits, byHand } = family.editConfiguration(source, wanted);
        assert.deepEqual(byHand, []);
        const after = applyEdits(source, edits);
        const facts = family.readConfiguration(after)!;
        for (const fact of editable) assert.equal(facts[fact]?.value, wanted[fact]);
        let shift = 0;
        const put = edits.map(edit => {
          const start = edit.start + shift;
          shift += edit.put.length - (edit.end - edit.start);
          return { start, end: start + edit.put.length };
        });
        assert.equal(without(after, put), without(source, edits));
      }),
      { numRuns: 60 },
    );
  });
}

test('what cannot be set safely is left for the person, with its line', () => {
  const { edits, byHand } = wordpress.editConfiguration(
    asBytes("<?php\n\ndefine('DB_HOST', getenv('H') ?: 'x');\n"),
    {
      host: asBytes('db'),
      name: asBytes('n'),
    },
  );
  assert.deepEqual(edits, []);
  assert.deepEqual(
    byHand.map(({ fact, line }) => [fact, line]),
    [
      ['host', 3],
      ['name', 0],
    ],
  );
});

test('where a condition decides between two values, none is claimed', () => {
  const values = readPhp(
    asBytes(
      "<?php if ($x) { define('A', '1'); $v = '1'; } else { define('A', '2'); $v = '2'; } if (!defined('B')) { define('B', '3'); } if ($x) { $w = '4'; } $w = '5';",
    ),
  )!;
  assert.deepEqual(
    ['A', '$v', 'B', '$w'].map(name => values.get(name)?.value),
    [undefined, undefined, '3', '5'],
  );
});

test('mischief is read harmlessly or refused', () => {
  const read = (text: string) => wordpress.readConfiguration(asBytes(text));
  assert.equal(read(`<?php ${'/* x */'.repeat(400_000)}`), undefined);
  assert.equal(read(`<?php $a = ${'['.repeat(30_000)}${']'.repeat(30_000)};`), undefined);
  assert.equal(read(`<?php $a = ${"'x' . ".repeat(60_000)}'y';`), undefined);
  assert.equal(read('<?php define( ;'), undefined);
  const facts = read(
    "<?php define('DB_NAME', system('id')); define(evil(), 'x'); include 'https://x.example/a'; ${'_'.'GET'} = 1; $$a = 'b'; list($c) = d();",
  );
  assert.equal(facts?.name?.value, undefined);
});

test('a family is recognised by its files, and by which is told', () => {
  const of = (...files: string[]) => {
    const { family, by } = recogniseFamily(path => files.includes(path));
    return `${family.name} ${by.join()}`;
  };
  assert.equal(of('wp-includes/version.php', 'wp-config.php'), 'wordpress wp-includes/version.php');
  assert.equal(
    of('administrator/index.php', 'configuration.php'),
    'joomla administrator/index.php,configuration.php',
  );
  assert.equal(of('core/lib/Drupal.php'), 'drupal core/lib/Drupal.php');
  assert.equal(of('LocalSettings.php', 'load.php'), 'mediawiki LocalSettings.php,load.php');
  assert.equal(of('configuration.php', 'index.html'), 'plain ');
});

test('addresses and paths in a configuration move with the site', () => {
  const move: SiteMove = {
    oldAddress: parseAddress('https://old.example/site'),
    newAddress: parseAddress('https://new.example'),
    rewritten: value =>
      asBytes(
        value.replace('https://old.example/site', 'https://new.example').replace('/home/old', '/srv/new'),
      ),
  };
  const moved = (name: string, values: Partial<Record<FactName, string>>) => {
    const facts = Object.fromEntries(
      Object.entries(values).map(([fact, value]) => [
        fact,
        { value: value as ByteString, line: 1, source: '' },
      ]),
    );
    return familyNamed(name).moved(facts, move);
  };
  assert.deepEqual(
    moved('wordpress', { home: 'https://old.example/site', siteAddress: 'https://cdn.example' }),
    { home: 'https://new.example' },
  );
  assert.deepEqual(
    moved('joomla', { siteAddress: '', cookieDomain: '.old.example', logPath: '/home/old/logs' }),
    { logPath: '/srv/new/logs', cookieDomain: '.new.example' },
  );
  assert.deepEqual(moved('mediawiki', { server: '//old.example', scriptPath: '/site' }), {
    server: '//new.example',
    scriptPath: '',
  });
  assert.deepEqual(moved('mediawiki', { server: 'https://other.example', scriptPath: '/w' }), {});
  assert.deepEqual(moved('drupal', { siteAddress: 'https://old.example/site' }), {
    siteAddress: 'https://new.example',
  });
});

test('prefixed keys are those of the site, not every key that begins alike', () => {
  const [usermeta, options] = wordpress.prefixed;
  assert.ok(usermeta!.carries('capabilities') && usermeta!.carries('2_user_level'));
  assert.ok(
    !usermeta!.carries('page_builder_pref') && options!.carries('user_roles') && !options!.carries('cron'),
  );
});

test('a .env file is read and edited; what no quoting holds, or a variable gives, is left for the person', () => {
  const family = familyNamed('plain');
  for (const { source, facts: expected } of dotenvs) {
    const facts = family.readConfiguration(source)!;
    const shown = Object.fromEntries(Object.entries(facts).map(([fact, { value }]) => [fact, value]));
    assert.deepEqual(shown, expected);
    fc.assert(
      fc.property(fc.string({ minLength: 1 }).map(bytesOfText), name => {
        const { edits, byHand } = family.editConfiguration(source, { name });
        const after = applyEdits(source, edits);
        if (byHand.length === 0) assert.equal(family.readConfiguration(after)?.name?.value, name);
        else assert.match(name, /['\n\r]/);
        assert.equal(
          after.replace(/(DB_DATABASE = )[^\n]*/, '$1'),
          source.replace(/(DB_DATABASE = )[^\n]*/, '$1'),
        );
      }),
    );
    const { edits } = family.editConfiguration(source, { host: asBytes('db.example') });
    assert.equal(applyEdits(source, edits), source.replace('DB_HOST=db\n', 'DB_HOST=db.example\n'));
  }
});

test('edits that the sheet asks for are counted; where two overlap, the first is carried out', () => {
  const { edits, counts } = sheetEditsIn(asBytes('a-aa-b'), [
    { file: 'f', find: 'aa', put: 'x' },
    { file: 'f', find: 'a', put: 'yy' },
    { file: 'f', find: 'none', put: '' },
  ]);
  assert.deepEqual(counts, [1, 3, 0]);
  assert.equal(applyEdits(asBytes('a-aa-b'), edits), 'yy-x-b');
});
