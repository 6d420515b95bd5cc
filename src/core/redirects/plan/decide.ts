import { type Address, formatAddress } from '../../address/address.js';
import { requestTo, urlOf } from '../follow.js';
import type { Redirector } from '../redirect-of.js';
import type { Redirect, RedirectSet } from '../redirect-set.js';
import { keyOfPage, pageBelow } from '../singles.js';
import type { KnownPage } from './known-pages.js';
import { sameTitle } from './likeness.js';

/** What a site said to one of its pages, as far as a plan looks at it. */
export interface PageAnswer {
  /** 0 where nobody answered. */
  readonly status: number;
  /** Where its redirects led; undefined where there were none. */
  readonly led: string | undefined;
  readonly isPermanent: boolean;
  readonly title: string;
}

/** Where an old page is to lead, before anybody asked the new site. */
export interface WantedTarget {
  /** Undefined for what is gone, and what is not redirected. */
  readonly target: string | undefined;
  /** What leads there: what the set has, or an earlier redirect of the old site. */
  readonly by: Redirect['by']['kind'] | 'earlier redirect' | 'gone' | 'nothing';
  /** Of a rule, its number. */
  readonly rule: number | undefined;
  /** Where the redirects lead it, if an earlier redirect of the old site leads nowhere at the new one. */
  readonly otherwise?: string | undefined;
}

/**
 * Where an old page is to lead: as the redirects say, and where the old site itself redirects it for good, straight to where that
 * leads in the end.
 */
export function wantedTarget(
  page: Pick<KnownPage, 'key' | 'page'>,
  old: PageAnswer | undefined,
  set: RedirectSet,
  answers: Redirector,
): WantedTarget {
  const own = answers(requestTo(urlOf(set, page.page)));
  if (own?.by.kind === 'single') return wanted(own);
  const led = old?.led !== undefined && old.isPermanent ? old.led : undefined;
  if (led === undefined) return wanted(own);
  const there = pageBelow(led, set.from);
  if (there === undefined)
    return isBelow(led, set.to) ? wanted(own) : { target: led, by: 'earlier redirect', rule: undefined };
  if (keyOfPage(there, set.from) === page.key) return wanted(own);
  const next = answers(requestTo(urlOf(set, there)));
  if (!next || next.target === own?.target) return wanted(own);
  return { target: next.target, by: 'earlier redirect', rule: undefined, otherwise: own?.target };
}

function wanted(redirect: Redirect | undefined): WantedTarget {
  if (!redirect) return { target: undefined, by: 'nothing', rule: undefined };
  const rule = redirect.by.kind === 'rule' ? redirect.by.number : undefined;
  if (redirect.target === undefined) return { target: undefined, by: 'gone', rule };
  return { target: redirect.target, by: redirect.by.kind, rule };
}

/** What the new site has where an old page leads. */
export type Home =
  | { readonly kind: 'there' }
  /** It redirects to another of its pages, which is the same as the old one as far as can be seen. */
  | { readonly kind: 'moved'; readonly to: string }
  | { readonly kind: 'missing'; readonly status: number };

/**
 * Whether the new site has a page where an old one leads.
 * @param old what the old site showed, where it was asked
 */
export function homeOf(target: string, next: PageAnswer, old: PageAnswer | undefined, to: Address): Home {
  if (next.status === 0 || next.status >= 300) return { kind: 'missing', status: next.status };
  if (next.led === undefined) return { kind: 'there' };
  if (sameTitle(old?.title ?? '', next.title)) return { kind: 'moved', to: next.led };
  // Many sites lead whatever they do not have to their front page, or to what is called a little alike.
  const root = `${formatAddress(to)}/`;
  const isFront =
    keyless(next.led) === keyless(root) && keyless(target.replace(/\?.*/s, '')) !== keyless(root);
  if (isFront || (old !== undefined && old.title !== '' && next.title !== ''))
    return { kind: 'missing', status: 404 };
  return { kind: 'moved', to: next.led };
}

function keyless(url: string): string {
  return url.replace(/\/$/, '');
}

function isBelow(url: string, address: Address): boolean {
  const base = formatAddress(address);
  return url === base || url.startsWith(`${base}/`) || url.startsWith(`${base}?`);
}

/** A URL of the new site as a list has it: a path below its address, or the whole URL of another site. */
export function pathBelow(url: string, to: Address): string {
  const base = formatAddress(to);
  return url.startsWith(`${base}/`) ? url.slice(base.length) : url;
}
