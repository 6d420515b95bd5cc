import { type Address, addressPath } from '../address/address.js';
import { byteByByte, pathPattern, type RawBytes } from './path-pattern.js';
import type { RedirectSet } from './redirect-set.js';
import { targetUrl } from './singles.js';

/**
 * An old address, as far as its pages are redirected. The function and every dialect are made of the same cases, in the same
 * order; the first that a request is below counts.
 */
export interface RedirectCase {
  /** In lower case. */
  readonly hosts: readonly string[];
  /** The only scheme that it is for; undefined for both. */
  readonly scheme: 'http' | 'https' | undefined;
  /** The path at which the old site's folder is served there, with no closing slash. */
  readonly folder: string;
  /** A pattern for that path as it is sent; empty for a whole host. */
  readonly base: string;
  /** What the case is not for, by patterns of the same kind. */
  readonly except: readonly string[];
  /** What is behind the address is appended to it; undefined where that is the same address. */
  readonly target: string | undefined;
}

/** Certificates are proved, and other things are asked for, under the name that they are for (RFC 8615). */
const wellKnown = '^/\\.well-known/';
/** Where hatches answer, in whatever folder. */
const hatches = '^/(?:[^? ]*/)?p[\\da-f]{32}\\.php(?:[/?]|$)';

/** The cases of a set, those with the longest path first; hosts that have the same are one. */
export function casesOf(set: RedirectSet, raw: RawBytes = byteByByte): RedirectCase[] {
  const { from, to } = set;
  const hasOthers = set.singles.length > 0 || set.rules.length > 0;
  const target = targetUrl('/', to)!;
  const cases = new Map<string, RedirectCase & { readonly hosts: string[] }>();
  const longestFirst = [...from].sort((a, b) => b.segments.length - a.segments.length);
  for (const address of longestFirst) {
    const base = pathPattern(address.segments, raw);
    const folder = folderOf(address, set.served);
    const add = (scheme: RedirectCase['scheme'], except: readonly string[], to: string | undefined) => {
      const all = [
        ...(base === '' ? [wellKnown] : []),
        ...(set.options.leavesHatches ? [hatches] : []),
        ...except,
      ];
      const key = JSON.stringify([scheme, base, folder, all, to]);
      const same = cases.get(key);
      if (same) same.hosts.push(address.host);
      else cases.set(key, { hosts: [address.host], scheme, folder, base, except: all, target: to });
    };
    const { scheme, except } = apartFrom(address, to, raw);
    add(scheme, except, target);
    if (scheme !== undefined && hasOthers) add(to.scheme, except, undefined);
  }
  return [...cases.values()];
}

/** Where the site's folder is served on the host of an address: at the longest path above it. */
function folderOf({ host, segments }: Address, served: readonly Address[]): string {
  const path = segments.map(segment => `/${segment}`).join('');
  const above = served
    .filter(one => one.host === host)
    .map(addressPath)
    .filter(one => one === path || path.startsWith(`${one}/`));
  return above.sort((a, b) => b.length - a.length)[0] ?? '';
}

/** A pattern for path and query as sent: what is behind the address is in its first or its second group. */
export function patternOf({ base }: Pick<RedirectCase, 'base'>): string {
  return base === '' ? '^/(.*)()$' : `^${base}(?:/(.*)|(\\?.*)|)$`;
}

/** What keeps a case from its own target, wherever that is. */
function apartFrom(from: Address, to: Address, raw: RawBytes): Pick<RedirectCase, 'scheme' | 'except'> {
  if (from.host !== to.host) return { scheme: undefined, except: [] };
  const [old, next] = [addressPath(from), addressPath(to)];
  const other = to.scheme === 'https' ? 'http' : 'https';
  // The same address: only the other scheme leads there.
  if (old === next) return { scheme: other, except: [] };
  if (!next.startsWith(`${old}/`)) return { scheme: undefined, except: [] };
  return { scheme: undefined, except: [`^${pathPattern(to.segments, raw)}(?:[/?]|$)`] };
}
