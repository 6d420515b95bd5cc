import { formatAddress } from '../address/address.js';
import type { Redirector } from './redirect-of.js';
import type { Redirect, RedirectRequest, RedirectSet } from './redirect-set.js';

/** The request for a URL. */
export function requestTo(url: string): RedirectRequest {
  const [, scheme, host, uri] = /^(https?):\/\/([^/?#:]+)(?::\d+)?([^#]*)/s.exec(url)!;
  const path = uri === '' || !uri!.startsWith('/') ? `/${uri}` : uri!;
  return { method: 'GET', scheme: scheme as 'http' | 'https', host: host!, uri: path };
}

/** How far a request is followed. */
export const mostHops = 10;

/** Where a URL leads, hop by hop, as far as the redirects of the set themselves lead. */
export interface Hops {
  readonly hops: readonly Redirect[];
  /** It comes back to where it was, or leads on and on. */
  readonly isLoop: boolean;
}

/** Follows a URL through the redirects. A port is not looked at: another port is another server, as a rule. */
export function follow(answers: Redirector, url: string): Hops {
  const been = new Set([url]);
  const hops: Redirect[] = [];
  for (let next: string | undefined = url; next !== undefined; ) {
    const hop: Redirect | undefined = answers(requestTo(next));
    if (!hop) break;
    hops.push(hop);
    if (hop.target === undefined) break;
    const target = hop.target.replace(/#.*/s, '');
    if (been.has(target) || hops.length > mostHops) return { hops, isLoop: true };
    been.add(target);
    next = target;
  }
  return { hops, isLoop: false };
}

/** A path below the old address as a URL. */
export function urlOf({ from }: Pick<RedirectSet, 'from'>, path: string): string {
  return formatAddress(from[0]) + path;
}
