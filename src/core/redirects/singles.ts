import { type Address, formatAddress } from '../address/address.js';
import { encodedPage } from './encoded.js';

/** An old page with a target of its own. */
export interface SingleRedirect {
  /** What is compared: the path below the address without its closing slash, and the query where there is one. */
  readonly key: string;
  /** A whole URL; empty for what is gone. */
  readonly target: string;
  /** 301 for what moved for good, 302 for a time, 410 for what is gone. POST and the like get 308 and 307. */
  readonly status: 301 | 302 | 410;
}

/** The key of a path: it has no closing slash, unless it is one. */
export function keyOf(path: string): string {
  return path.length > 1 && path.endsWith('/') ? path.slice(0, -1) : path;
}

/**
 * Whether a target gets the query of the request: one with a query or a fragment of its own is complete, and so is that of a page
 * that is known by its query.
 */
export function takesQuery(target: string, key = ''): boolean {
  return !/[?#]/.test(target) && !key.includes('?');
}

/**
 * The key of an old page as a person or a log writes it: a path below the site's address, with or without a query, or a whole URL
 * below one of the addresses.
 * @returns undefined for what is not below any of them
 */
export function keyOfPage(text: string, addresses: readonly Address[]): string | undefined {
  const page = pageBelow(text, addresses);
  if (page === undefined) return undefined;
  const mark = page.indexOf('?');
  return mark < 0 ? keyOf(page) : keyOf(page.slice(0, mark)) + page.slice(mark);
}

/** The same with its closing slash, as it is asked for. */
export function pageBelow(text: string, addresses: readonly Address[]): string | undefined {
  const plain = text.trim().replace(/#.*/s, '');
  if (plain.startsWith('/') && !plain.startsWith('//')) return encodedPage(plain);
  if (!URL.canParse(plain)) return undefined;
  const url = new URL(plain);
  if (!/^https?:$/.test(url.protocol)) return undefined;
  const host = url.hostname.replace(/\.$/, '');
  for (const address of addresses) {
    const { pathname: base } = new URL(formatAddress(address));
    const folder = base.endsWith('/') ? base : `${base}/`;
    if (address.host !== host) continue;
    const path = encodedPage(url.pathname + url.search);
    if (`${path}/` === folder || path.startsWith(`${folder.slice(0, -1)}?`))
      return `/${path.slice(folder.length - 1)}`;
    if (path.startsWith(folder)) return path.slice(folder.length - 1);
  }
  return undefined;
}

/**
 * The URL that a target names: a path below the new address, or a whole URL.
 * @returns undefined for what is neither
 */
export function targetUrl(text: string, to: Address): string | undefined {
  const plain = text.trim();
  if (plain.startsWith('/') && !plain.startsWith('//')) return resolved(formatAddress(to) + plain);
  return URL.canParse(plain) && /^https?:$/.test(new URL(plain).protocol) ? resolved(plain) : undefined;
}

/** What has a meaning in the language of some server is encoded: in nginx a dollar sign cannot be written as itself. */
function resolved(url: string): string {
  const { href } = new URL(url);
  return href.replace(/[$'\\^`{|}]/g, char => `%${char.charCodeAt(0).toString(16).toUpperCase()}`);
}
