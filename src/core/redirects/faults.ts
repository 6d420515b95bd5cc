import { formatAddress } from '../address/address.js';
import { type Finding, finding } from '../findings/findings.js';
import { counted } from '../text/numbers.js';
import { follow, urlOf } from './follow.js';
import { redirector } from './redirect-of.js';
import type { RedirectSet } from './redirect-set.js';
import { expressionOf } from './rules/expression.js';
import type { RedirectRule } from './rules/redirect-rule.js';
import { samplePaths } from './rules/samples.js';

/** A set without what leads in a circle. */
export interface JudgedSet {
  readonly set: RedirectSet;
  readonly findings: readonly Finding[];
}

const samples = 300;

/**
 * Looks for redirects that lead in a circle, which are left out, and for rules that never come to their turn. Single ones are
 * followed, each; rules are tried on paths made for them.
 */
export function judged(set: RedirectSet): JudgedSet {
  const words = wordsOf(set);
  const findings: Finding[] = [];
  const rules: RedirectRule[] = [];
  for (const rule of set.rules) {
    const paths = samplePaths(rule, words, samples);
    const circle = circleOf({ ...set, singles: [], rules: [...rules, rule] }, paths);
    if (circle === undefined) {
      findings.push(...silences(rule, rules, set, paths));
      rules.push(rule);
    } else findings.push(loops(rule, circle));
  }
  const before = { ...set, rules };
  const answers = redirector(before);
  const circling = new Set(
    before.singles.filter(({ key, target }) => {
      if (target === '') return false;
      const isOwn = follow(answers, urlOf(set, key)).isLoop;
      return isOwn || follow(answers, target.replace(/#.*/s, '')).isLoop;
    }),
  );
  if (circling.size > 0) findings.push(singleLoops([...circling].map(({ key }) => key)));
  return { set: { ...before, singles: before.singles.filter(one => !circling.has(one)) }, findings };
}

/** Segments that paths of the site have, by what is written in the set. */
function wordsOf({ singles, rules, from, to }: RedirectSet): string[] {
  const texts = [
    ...rules.flatMap(({ written }) => [written.from, written.to ?? '']),
    ...singles.slice(0, 50).flatMap(({ key, target }) => [key, target]),
    ...[...from, to].map(formatAddress),
  ];
  const words = texts.flatMap(text => text.match(/[a-z0-9][\w.-]*/gi) ?? []);
  return [...new Set(['spring-tide', 'a.b', '7', '2019', '05', 'caf%C3%A9', ...words])].slice(0, 120);
}

/** A path that the rules lead back to itself. */
function circleOf(set: RedirectSet, paths: readonly string[]): string | undefined {
  const answers = redirector(set);
  return paths.find(path => set.from.some(address => follow(answers, formatAddress(address) + path).isLoop));
}

/** Whether a rule is ever asked: no path of a site matches it, or an earlier rule takes all that it matches. */
function silences(
  rule: RedirectRule,
  before: readonly RedirectRule[],
  { options }: RedirectSet,
  paths: readonly string[],
): Finding[] {
  const flags = options.anyCase ? 'si' : 's';
  const matches = (one: RedirectRule, path: string) => new RegExp(`^${expressionOf(one)}$`, flags).test(path);
  const possible = paths.filter(path => path.startsWith('/') && !/[?#]/.test(path) && matches(rule, path));
  const place = 'redirects.rules';
  if (possible.length === 0)
    return [
      finding({
        level: 'warn',
        code: 'redirect-rule-never',
        place,
        what: `The rule "${rule.written.from}" can never match: no path below the old address looks like that`,
        remedy: 'Begin it with a slash; a query (?p=12) belongs into redirects.csv, one line for each',
      }),
    ];
  const first = before.find(earlier => possible.every(path => matches(earlier, path)));
  if (!first) return [];
  return [
    finding({
      level: 'warn',
      code: 'redirect-rule-shadowed',
      place,
      what: `The rule "${rule.written.from}" never comes to its turn: "${first.written.from}" before it matched all of ${counted(possible.length, 'path')} made for it`,
      remedy: 'Write the rule that matches less before the one that matches more',
    }),
  ];
}

function loops(rule: RedirectRule, path: string): Finding {
  return finding({
    level: 'stop',
    code: 'redirect-loops',
    place: 'redirects.rules',
    what: `The rule "${rule.written.from}" leads ${path} in a circle, so it is left out`,
    remedy: 'Change its "from" so that it does not match its own target',
  });
}

function singleLoops(keys: readonly string[]): Finding {
  const some = keys.slice(0, 3).join(', ');
  return finding({
    level: 'stop',
    code: 'redirect-loops',
    place: 'redirects.csv',
    what: `${counted(keys.length, 'line')} of redirects.csv ${keys.length === 1 ? 'leads' : 'lead'} in a circle and ${keys.length === 1 ? 'is' : 'are'} left out: ${some}${keys.length > 3 ? ', …' : ''}`,
    remedy: 'Give each a target that is not redirected itself',
  });
}
