import { casesOf, patternOf, type RedirectCase } from './cases.js';
import type { Redirect, RedirectRequest, RedirectSet } from './redirect-set.js';
import { expressionOf } from './rules/expression.js';
import { fillTarget, type RedirectRule } from './rules/redirect-rule.js';
import { keyOf, type SingleRedirect, takesQuery } from './singles.js';
import { spellingsOf } from './spellings.js';

/** Answers requests. @returns undefined where nothing is redirected */
export type Redirector = (request: RedirectRequest) => Redirect | undefined;

/**
 * The redirects of a site as a function: where a request leads. Single ones come first, then rules, then the same path at the new
 * address. Bytes are passed on as they came.
 *
 * What servers do not follow: Apache answers 404 to `%2F`, 403 to `%3F` and 400 to an encoding that is none before any rule is
 * asked, 403 to a name of more than 255 bytes, and drops a question mark with nothing behind it; all of them refuse a request
 * line that is too long for them.
 */
export function redirector(set: RedirectSet): Redirector {
  const flags = set.options.anyCase ? 'si' : 's';
  const cases = casesOf(set).map(one => ({
    ...one,
    pattern: new RegExp(patternOf(one), flags),
    not: one.except.map(pattern => new RegExp(pattern, flags)),
  }));
  const singles = new Map<string, SingleRedirect>();
  for (const one of set.singles)
    for (const key of spellingsOf(one.key).map(fold)) if (!singles.has(key)) singles.set(key, one);
  const rules = set.rules.map(rule => new RegExp(`^${expressionOf(rule)}$`, flags));
  function fold(key: string): string {
    return set.options.anyCase ? asciiLowerCase(key) : key;
  }

  return ({ method, scheme, host: named, uri }) => {
    const host = named.toLowerCase().replace(/\.$/, '');
    for (const one of cases) {
      if (!one.hosts.includes(host) || (one.scheme !== undefined && one.scheme !== scheme)) continue;
      const found = one.pattern.exec(uri);
      if (!found || one.not.some(pattern => pattern.test(uri))) continue;
      const isSafe = method === 'GET' || method === 'HEAD';
      const rest = found[1] ?? '';
      return answer(one, `/${rest}${found[2] ?? ''}`, isSafe);
    }
    return undefined;
  };

  function answer({ target }: RedirectCase, uri: string, isSafe: boolean): Redirect | undefined {
    const { path, query } = partsOf(uri);
    const key = keyOf(path);
    const single = singles.get(fold(key + query)) ?? singles.get(fold(key));
    if (single) return answered(single.status, single.target, { kind: 'single', single }, { query, isSafe });
    for (const [number, expression] of rules.entries()) {
      const groups = expression.exec(path);
      const rule = set.rules[number]!;
      if (groups)
        return answered(rule.status, filled(rule, groups), { kind: 'rule', number }, { query, isSafe });
    }
    if (target === undefined) return undefined;
    // What is behind the address, with the question mark of a query that is empty.
    return { ...statusFor(301, isSafe), target: target + uri.slice(1), by: { kind: 'same path' } };
  }

  function answered(
    status: SingleRedirect['status'],
    target: string,
    by: Redirect['by'],
    { query, isSafe }: { readonly query: string; readonly isSafe: boolean },
  ): Redirect {
    if (status === 410) return { status, target: undefined, by };
    const key = by.kind === 'single' ? by.single.key : '';
    const keeps = set.options.query === 'keep' && takesQuery(target, key);
    return { ...statusFor(status, isSafe), target: target + (keeps ? query : ''), by };
  }

  function statusFor(wanted: 301 | 302, isSafe: boolean): { readonly status: 301 | 302 | 307 | 308 } {
    if (wanted === 302 || set.options.isTemporary) return { status: isSafe ? 302 : 307 };
    return { status: isSafe ? 301 : 308 };
  }
}

function filled(rule: RedirectRule, groups: RegExpExecArray): string {
  return fillTarget(rule, number => groups[number + 1] ?? '');
}

/** Path and query of a URI below an address; a question mark with nothing behind it is no query. */
function partsOf(uri: string): { readonly path: string; readonly query: string } {
  const mark = uri.indexOf('?');
  if (mark < 0) return { path: uri, query: '' };
  return { path: uri.slice(0, mark), query: mark === uri.length - 1 ? '' : uri.slice(mark) };
}

/** Only the letters A to Z: servers do not know others in bytes. */
export function asciiLowerCase(text: string): string {
  return text.replace(/[A-Z]+/g, letters => letters.toLowerCase());
}
