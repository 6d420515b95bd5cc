/**
 * Throws dumps of random pieces at the rewriter for some seconds, whole and cut into chunks: each must end in damage
 * or in the same output and counts both ways, never in another error. Usage: npm run fuzz -- [SEED] [SECONDS]
 */
import { parsePair } from '../../src/core/address/pairs.js';
import { DamageError } from '../../src/core/errors.js';
import { DumpRewriter } from '../../src/core/rewrite/carriers/dump.js';
import { compileRules, type Rules } from '../../src/core/rewrite/terms/rules.js';
import { bench } from '../help/bench.js';

const pairs = [parsePair('https://old.example/site', 'https://new.example'), parsePair('/home/old', '/srv')];
const allRules = [{}, { mend: true, openBase64: true, bareHosts: true, mail: true }].map(options =>
  compileRules(bench, pairs, options),
);
const prefix = { from: 't', to: 'u', data: [] };
const pieces =
  `INSERT INTO t VALUES (|(|)|,|;|'|\\|''|\\'|"|\\"|\`|0x|4a4b|X'|--|-- c\n|#|/*|*/|/*!40101 |https://old.example/site|https:\\\\/\\\\/old.example\\\\/site|a:1:{|s:24:|i:0;|}|NULL|1| |\n|DELIMITER ;;\n|;;|UPDATE t SET a=|INSERT INTO t SET a=|SET SQL_MODE='NO_BACKSLASH_ESCAPES';|SET SQL_MODE='';|CREATE TABLE t (\`a\` int, b text);|{"a":"|\xe9|\0|C:1:"A":30:{|=|href="/site/|s:26:\\"https://old.example/site/a\\";|aHR0cHM6Ly9vbGQuZXhhbXBsZS9zaXRlL2E=|s:9:\\"|\\";|é|old.example|INSERT INTO t VALUES ('|');`.split(
    '|',
  );

let state = Number(process.argv[2] ?? Date.now() % 1_000_000);
console.log(`seed ${state}`);
const random = (below: number) => {
  state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
  return Math.floor((state / 2 ** 32) * below);
};

function outcome(dump: Buffer, chunk: number, rules: Rules): string {
  let out = '';
  const rewriter = new DumpRewriter({ rules, prefix }, bytes => {
    out += bytes.toString('latin1');
  });
  try {
    for (let at = 0; at < dump.length; at += chunk) rewriter.push(dump.subarray(at, at + chunk));
    rewriter.finish();
  } catch (error) {
    if (error instanceof DamageError) return 'damage';
    throw error;
  }
  const counts = rewriter.tally.all().map(({ table, column, seen, changed, forms, misses }) => {
    return [table, column, seen, changed, forms, misses];
  });
  return `${out}\n${JSON.stringify(counts)}`;
}

const end = Date.now() + Number(process.argv[3] ?? 30) * 1000;
let cases = 0;
for (; Date.now() < end; cases++) {
  const text = Array.from({ length: 1 + random(25) }, () => pieces[random(pieces.length)]).join('');
  const dump = Buffer.from(random(2) ? `INSERT INTO t VALUES (${text}` : text, 'latin1');
  const rules = allRules[random(2)]!;
  const whole = outcome(dump, dump.length, rules);
  const cut = outcome(dump, 1 + random(9), rules);
  if (whole !== cut) throw new Error(`${JSON.stringify(dump.toString('latin1'))}\n${whole}\n${cut}`);
}
console.log(`${cases} dumps, each whole and in chunks`);
