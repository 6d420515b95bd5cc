import { type Address, formatAddress } from '../address/address.js';
import type { RedirectRule } from './rules/redirect-rule.js';
import type { SingleRedirect } from './singles.js';

/** What is redirected: every address that a site was known by, to the one that it has now. */
export interface RedirectSet {
  /** The old address first, then the others under which it has been served. */
  readonly from: readonly [Address, ...Address[]];
  /** Those of them at which the old site itself was: its folder is served there. */
  readonly served: readonly Address[];
  readonly to: Address;
  /** Old pages with a target of their own. No two have the same key. */
  readonly singles: readonly SingleRedirect[];
  /** Asked in this order, where no single one fits. */
  readonly rules: readonly RedirectRule[];
  readonly options: RedirectOptions;
}

/** How requests are compared and answered. */
export interface RedirectOptions {
  /** Permanent redirects are remembered by browsers; temporary ones are for the time in which they are tried. */
  readonly isTemporary: boolean;
  /** Whether paths are the same in any case of the letters A to Z. */
  readonly anyCase: boolean;
  /** What becomes of the query of a request, where the target has none of its own. */
  readonly query: 'keep' | 'drop';
  /** Whether requests to a hatch (see docs/hatch.md) are left alone, so that the old site can still be reached through one. */
  readonly leavesHatches: boolean;
}

const usualOptions: RedirectOptions = {
  isTemporary: false,
  anyCase: false,
  query: 'keep',
  leavesHatches: false,
};

/** A request as a server gets it. */
export interface RedirectRequest {
  readonly method: string;
  readonly scheme: 'http' | 'https';
  /** Without a port, in any letter case. */
  readonly host: string;
  /** Path and query as they were sent, one character a byte, from the first slash on. */
  readonly uri: string;
}

/**
 * What is answered. Browsers keep the method of anything but GET and HEAD at 307 and 308 only (RFC 9110, 15.4); what is gone
 * for good has no target (410).
 */
export type Redirect =
  | { readonly status: 301 | 302 | 307 | 308; readonly target: string; readonly by: RedirectSource }
  | { readonly status: 410; readonly target: undefined; readonly by: RedirectSource };

/** What of a set answered. A rule is named by its number, from 0 on. */
type RedirectSource =
  | { readonly kind: 'single'; readonly single: SingleRedirect }
  | { readonly kind: 'rule'; readonly number: number }
  | { readonly kind: 'same path' };

/**
 * Every address of a site that leads to its new one: those that the sheet names, and each with or without `www`. What is the
 * new address itself is left out of the redirects to the same path.
 */
export function redirectSet(
  old: Address,
  also: readonly Address[],
  to: Address,
  more: Partial<Pick<RedirectSet, 'singles' | 'rules' | 'options'>> = {},
): RedirectSet {
  const known = new Set<string>();
  const served = [old, ...also].flatMap(address =>
    [address, twinOf(address)].filter(one => one !== undefined),
  );
  const from = [...served];
  // Where the new address is below an old one, its own twin leads to it too, and not below it once more.
  const twin = twinOf(to);
  if (twin && from.some(({ host }) => host === twin.host)) from.push(twin);
  const distinct = from.filter(address => {
    const text = formatAddress({ ...address, scheme: 'http', port: undefined });
    return !known.has(text) && known.add(text);
  });
  const { singles = [], rules = [], options = usualOptions } = more;
  return { from: distinct as [Address, ...Address[]], served, to, singles, rules, options };
}

/** The same address with or without `www`; undefined for an IP address and a name without a dot. */
export function twinOf(address: Address): Address | undefined {
  const { host } = address;
  if (!host.includes('.') || /^[\d.]+$|:/.test(host)) return undefined;
  const twin = host.startsWith('www.') ? host.slice(4) : `www.${host}`;
  return { ...address, host: twin, unicodeHost: twin };
}
