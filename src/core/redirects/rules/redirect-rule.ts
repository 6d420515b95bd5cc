import type { Address } from '../../address/address.js';
import { UsageError } from '../../errors.js';
import { targetUrl } from '../singles.js';
import { type PatternPart, parsePathPattern } from './url-pattern.js';

/** A rule as the sheet writes it. */
export interface WrittenRule {
  /** A path below the old address, in the path syntax of the URL Pattern standard. */
  readonly from: string;
  /** A path below the new address or a whole URL, with the rule's groups as `:name`; not given for what is gone. */
  readonly to?: string | undefined;
  /** 301, 302 or 410; 301 where it is left out. */
  readonly status?: number | undefined;
}

/** A rule, read. */
export interface RedirectRule {
  readonly written: WrittenRule;
  readonly parts: readonly PatternPart[];
  /** The target, cut at its groups: texts of a URL, and numbers of groups from 0 on. */
  readonly target: readonly (string | number)[];
  readonly status: 301 | 302 | 410;
}

/** Regular expressions of web servers name nine groups. */
const mostGroups = 9;

/**
 * Reads a rule.
 * @param to the new address
 * @throws UsageError for a pattern that is none, and a target with a group that the pattern does not have
 */
export function parseRule(written: WrittenRule, to: Address): RedirectRule {
  const parts = parsePathPattern(written.from);
  const names = parts.flatMap(({ group }) => (group ? [group.name] : []));
  const wrong = (cause: string, remedy: string) =>
    new UsageError({ doing: `Reading the redirect rule "${written.from}"`, cause, remedy });
  if (names.length > mostGroups) throw wrong(`it has more than ${mostGroups} groups`, 'Make two rules of it');
  const { status = 301 } = written;
  if (status !== 301 && status !== 302 && status !== 410)
    throw wrong(`its status is ${status}`, 'Write 301, 302 or 410');
  if (status === 410) return { written, parts, target: [], status };
  if (written.to === undefined) throw wrong('it has no "to"', 'Add "to", or "status: 410" for what is gone');
  return { written, parts, target: targetOf(written.to, names, to, wrong), status };
}

/** The place of a group, while the rest of the target is read as a URL. */
const placeholder = (number: number) => `able-porter-group-${number}-`;

function targetOf(
  text: string,
  names: readonly string[],
  to: Address,
  wrong: (cause: string, remedy: string) => UsageError,
): (string | number)[] {
  const filled = text.replace(
    /(^[a-z]+:\/\/[^/]*)|:([$_\p{ID_Start}][$\p{ID_Continue}]*|\d+)/gu,
    (all, host, name) => {
      if (host !== undefined) return host;
      const number = names.indexOf(name);
      if (number < 0)
        throw wrong(
          `its "to" names :${name}, which its "from" does not have`,
          `Its groups are ${names.map(one => `:${one}`).join(', ') || 'none'}`,
        );
      return all && placeholder(number);
    },
  );
  const url = targetUrl(filled, to);
  if (url === undefined)
    throw wrong(`its "to" (${text}) is neither a path nor a URL`, 'Begin it with / or https://');
  return url
    .split(/able-porter-group-(\d)-/)
    .map((part, i) => (i % 2 === 1 ? Number(part) : part))
    .filter(part => part !== '');
}

/** The target of a rule, with its groups written as `group` gives them. */
export function fillTarget(
  { target }: Pick<RedirectRule, 'target'>,
  group: (number: number) => string,
): string {
  return target.map(part => (typeof part === 'number' ? group(part) : part)).join('');
}
