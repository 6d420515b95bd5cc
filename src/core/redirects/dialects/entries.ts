import { formatAddress } from '../../address/address.js';
import { asciiLowerCase } from '../redirect-of.js';
import type { RedirectSet } from '../redirect-set.js';
import { takesQuery } from '../singles.js';
import { spellingsOf } from '../spellings.js';

/** A line of a table of single redirects. */
export interface Entry {
  /** Path, or path and query, in one spelling. */
  readonly key: string;
  readonly answer: string;
}

/**
 * What a table gives for a page: the status for GET, a sign, and the target. A plus is for a target that gets the query of the
 * request, an equals sign for one that is complete.
 */
export function answerOf(set: RedirectSet, status: 301 | 302 | 410, target: string, key = ''): string {
  if (status === 410) return '410=';
  const keeps = set.options.query === 'keep' && takesQuery(target, key);
  return `${statusOf(set, status)}${keeps ? '+' : '='}${target}`;
}

/** The status for GET. */
export function statusOf({ options }: RedirectSet, status: 301 | 302): 301 | 302 {
  return options.isTemporary ? 302 : status;
}

/** How the lines and rules of a set answer: each status for GET, with its sign and the status for other methods. */
export function kindsOf(
  set: RedirectSet,
): { readonly kind: string; readonly get: number; readonly other: number }[] {
  const answers = [
    ...set.singles.map(({ status, target, key }) => answerOf(set, status, target, key)),
    ...set.rules.map(rule =>
      answerOf(set, rule.status, rule.target.filter(part => typeof part === 'string').join('')),
    ),
  ];
  const kinds = new Set(answers.map(answer => answer.slice(0, 4)));
  return [...kinds].sort().map(kind => {
    const get = Number(kind.slice(0, 3));
    return { kind, get, other: { 301: 308, 302: 307 }[get] ?? get };
  });
}

/** The single redirects in every spelling, each key once. */
export function entriesOf(set: RedirectSet): Entry[] {
  const entries = new Map<string, string>();
  for (const single of set.singles) {
    const answer = answerOf(set, single.status, single.target, single.key);
    for (const spelling of spellingsOf(single.key)) {
      const key = set.options.anyCase ? asciiLowerCase(spelling) : spelling;
      if (!entries.has(key)) entries.set(key, answer);
    }
  }
  return [...entries].map(([key, answer]) => ({ key, answer }));
}

/** The first lines of a file, as comments. */
export function headOf(set: RedirectSet, sign: string): string {
  return `${sign} ${set.from.map(formatAddress).join(', ')}\n${sign} and all below have moved to ${formatAddress(set.to)}\n`;
}
