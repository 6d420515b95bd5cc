import { type Pair, pairsOfMove, parsePair } from '../../core/address/pairs.js';
import { applyEdits, textOf } from '../../core/bytes.js';
import type { DumpTerms } from '../../core/rewrite/carriers/dump-terms.js';
import { editsInValue } from '../../core/rewrite/carriers/value.js';
import { unnoted } from '../../core/rewrite/report/observer.js';
import { type PrefixChange, renamed } from '../../core/rewrite/terms/prefix.js';
import { compileRules, type RuleOptions, type Rules } from '../../core/rewrite/terms/rules.js';
import type { SiteMove } from '../../core/site/configuration/source/facts.js';
import { columnsOf } from '../../core/site/data/family-columns.js';
import type { Family } from '../../core/site/families/family.js';
import type { Move } from './open.js';

/** The pairs of a move: those that follow from the addresses, then the sheet's own. */
function pairsOf({ sheet }: Move): Pair[] {
  const own = sheet.rewrite.pairs.map(({ from, to }) => parsePair(from, to));
  return [...pairsOfMove(sheet.old.address, sheet.old.also, sheet.new.address), ...own];
}

export function rulesOf(move: Move): Rules {
  return compileRules(move.bench, pairsOf(move), ruleOptions(move));
}

/** What the sheet asks for beyond its pairs. */
export function ruleOptions({ sheet: { rewrite } }: Move): RuleOptions {
  return {
    mail: rewrite.mail,
    bareHosts: rewrite['bare-hosts'],
    mend: rewrite.mend,
    openBase64: rewrite['open-base64'],
  };
}

/** What the move changes for the site, as its configuration and server files need it. */
export function siteMoveOf(move: Move): SiteMove {
  const rules = rulesOf(move);
  const { oldAddress, newAddress } = move;
  return {
    oldAddress,
    newAddress,
    rewritten: value => applyEdits(value, editsInValue(value, rules, unnoted)),
  };
}

/** What is rewritten in the dump of the crate, but for table names where a prefix changes. */
export function dumpTermsOf(move: Move, family: Family): DumpTerms {
  return {
    pairs: pairsOf(move),
    options: ruleOptions(move),
    prefix: undefined,
    family: family.name,
    leave: move.sheet.rewrite.leave,
    only: [],
  };
}

/** The change of table prefix that the sheet asks for, if any. */
export function prefixChangeOf(
  move: Move,
  family: Family,
  oldPrefix: string | undefined,
): PrefixChange | undefined {
  const to = move.sheet.new.database?.prefix;
  if (to === undefined || oldPrefix === undefined || to === oldPrefix) return undefined;
  return { from: oldPrefix, to, data: columnsOf(family.name).prefixed };
}

/** The name of a table of the crate at the new end, as text. @param table its bytes, as the manifest has them */
export function newTableName(table: string, change: PrefixChange | undefined): string {
  return textOf(renamed(table, change) ?? table);
}
