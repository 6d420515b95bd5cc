import assert from 'node:assert/strict';
import { test } from 'node:test';
import fc from 'fast-check';
import { applyEdits, asBytes, bytesOfText, textOf } from '../../../src/core/bytes.js';
import { wordpress } from '../../../src/core/site/wordpress.js';

const config = bytesOfText(`<?php
// define( 'DB_NAME', 'comment' );
/* define( 'DB_NAME', 'block' ); */
# define( 'DB_NAME', 'hash' );
define( 'DB_NAME', "cl\\x75b_" . 'ol\\'d' ); // kept
defined( 'DB_USER' ) || define( 'DB_USER', 'é"user' );\r
if ( ! defined( 'DB_PASSWORD' ) ) {
\tdefine( 'DB_PASSWORD', <<<'EOT'
p'w\\d$
EOT
);
}
define( 'DB_NAME', 'second' );
define( 'DB_HOST', getenv( 'HOST' ) ?: 'localhost' );
function never() { define( 'DB_CHARSET', 'no' ); }
$table_prefix = "sr4_";
echo "define( 'WP_HOME', 'no' )";
`);

test('facts are read past comments, quotes, escapes, heredocs and second definitions', () => {
  const facts = wordpress.readConfiguration(config)!;
  const shown = Object.fromEntries(
    Object.entries(facts).map(([name, fact]) => [name, fact.value && textOf(fact.value)]),
  );
  assert.deepEqual(shown, {
    name: "club_ol'd",
    user: 'é"user',
    password: "p'w\\d$",
    host: undefined,
    prefix: 'sr4_',
  });
  assert.equal(facts.host?.line, 14);
});

test('any value is written so that it is read back, and nothing else changes', () => {
  const value = fc.string({ unit: 'grapheme', minLength: 1 }).map(bytesOfText);
  fc.assert(
    fc.property(value, value, value, (name, password, prefix) => {
      const { edits, byHand } = wordpress.editConfiguration(config, {
        name,
        password,
        prefix,
        host: asBytes('db.example'),
      });
      assert.deepEqual(
        byHand.map(({ fact }) => fact),
        ['host'],
      );
      const after = applyEdits(config, edits);
      const facts = wordpress.readConfiguration(after)!;
      assert.deepEqual(
        [facts.name?.value, facts.password?.value, facts.prefix?.value],
        [name, password, prefix],
      );
      const blank = (s: string, at: readonly { start: number; end: number }[]) =>
        at.toReversed().reduce((text, { start, end }) => text.slice(0, start) + text.slice(end), s);
      let shift = 0;
      const put = edits.map(edit => {
        const start = edit.start + shift;
        shift += edit.put.length - (edit.end - edit.start);
        return { start, end: start + edit.put.length };
      });
      assert.equal(blank(after, put), blank(config, edits));
    }),
    { numRuns: 300 },
  );
});

test('mischief is read harmlessly or refused', () => {
  assert.equal(wordpress.readConfiguration(asBytes(`<?php ${'/* x */'.repeat(400_000)}`)), undefined);
  assert.equal(
    wordpress.readConfiguration(asBytes(`<?php $a = ${'['.repeat(30_000)}${']'.repeat(30_000)};`)),
    undefined,
  );
  assert.equal(wordpress.readConfiguration(asBytes('<?php define( ;')), undefined);
  const facts = wordpress.readConfiguration(
    asBytes("<?php define('DB_NAME', system('id')); define(evil(), 'x'); include 'https://x.example/a';"),
  );
  assert.equal(facts?.name?.value, undefined);
});

test('prefixed keys are those of the site, not every key that begins alike', () => {
  const [usermeta, options] = wordpress.prefixed;
  assert.ok(usermeta!.carries('capabilities') && usermeta!.carries('2_user_level'));
  assert.ok(
    !usermeta!.carries('page_builder_pref') && options!.carries('user_roles') && !options!.carries('cron'),
  );
});
