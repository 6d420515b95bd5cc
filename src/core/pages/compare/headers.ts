import { type Answer, headerOf, headersNamed } from '../read/answer.js';

/** Headers by which a site protects its visitors, or lets other sites use it. */
const protecting = [
  'strict-transport-security',
  'content-security-policy',
  'x-frame-options',
  'x-content-type-options',
  'referrer-policy',
  'permissions-policy',
  'access-control-allow-origin',
  'cross-origin-opener-policy',
  'cross-origin-resource-policy',
] as const;

/** Smaller answers are often sent as they are. */
const leastCompressed = 1_400;

/** Headers that the old answer has and the new one lacks, each as what is missing. */
export function missingHeaders(old: Answer, next: Answer): string[] {
  const missing: string[] = protecting.filter(
    name => headerOf(old, name) !== undefined && headerOf(next, name) === undefined,
  );
  const isCompressed = (answer: Answer) =>
    !/^(?:identity)?$/.test(headerOf(answer, 'content-encoding') ?? '');
  if (isCompressed(old) && !isCompressed(next) && next.bytes > leastCompressed)
    missing.push('content-encoding (compression)');
  if (isKept(old) && !isKept(next)) missing.push('cache-control (how long browsers keep it)');
  return missing;
}

/** Whether browsers keep an answer for a while (RFC 9111, 5.2.2.1 and 5.3). */
function isKept(answer: Answer): boolean {
  const age = /(?:s-maxage|max-age)=(\d+)/.exec(headerOf(answer, 'cache-control') ?? '')?.[1];
  if (age !== undefined) return Number(age) > 0;
  const expires = Date.parse(headerOf(answer, 'expires') ?? '');
  return !Number.isNaN(expires) && expires > Date.parse(headerOf(answer, 'date') ?? '');
}

/** Headers that say where a page comes from or may come from; others name hosts without harm. */
const naming = [
  ...protecting,
  'content-security-policy-report-only',
  'link',
  'content-location',
  'refresh',
  'location',
  'x-pingback',
  'access-control-allow-headers',
  'report-to',
  'reporting-endpoints',
];

/** Headers of an answer that may hold an address, with what they say. */
export function namingHeaders(answer: Answer): { readonly name: string; readonly value: string }[] {
  return naming.flatMap(name => {
    const value = headerOf(answer, name);
    return value === undefined ? [] : [{ name, value }];
  });
}

/** A cookie as a site sets it (RFC 6265, 4.1). */
export interface SetCookie {
  readonly name: string;
  readonly value: string;
  readonly domain: string | undefined;
  readonly path: string | undefined;
  readonly secure: boolean;
  readonly httpOnly: boolean;
}

export function cookiesOf(answer: Answer): SetCookie[] {
  return headersNamed(answer, 'set-cookie').slice(0, 50).map(cookieOf);
}

function cookieOf(line: string): SetCookie {
  const [first = '', ...parts] = line.split(';').map(part => part.trim());
  const at = first.indexOf('=');
  const attribute = (name: string) => {
    const part = parts.find(one => one.toLowerCase().startsWith(`${name}=`));
    return part?.slice(name.length + 1).trim();
  };
  const has = (name: string) => parts.some(part => part.toLowerCase() === name);
  return {
    name: at < 0 ? first : first.slice(0, at),
    value: at < 0 ? '' : first.slice(at + 1),
    domain: attribute('domain')?.replace(/^\./, '').toLowerCase(),
    path: attribute('path'),
    secure: has('secure'),
    httpOnly: has('httponly'),
  };
}

/**
 * Why a cookie does not reach the pages of a site; undefined where it does. One for a part of the site is not at fault.
 * @param host, path of the site, the path without a closing slash
 * @param oldPath that of the old site
 */
export function cookieFault(
  cookie: SetCookie,
  host: string,
  path: string,
  oldPath: string,
): string | undefined {
  const { domain } = cookie;
  if (domain !== undefined && domain !== host && !host.endsWith(`.${domain}`))
    return `its domain is ${domain}`;
  const at = cookie.path?.replace(/\/$/, '') ?? '';
  const isBelow = (one: string, other: string) => one === other || one.startsWith(`${other}/`);
  const isOfOldSite = oldPath !== path && oldPath !== '' && isBelow(at, oldPath) && !isBelow(path, oldPath);
  const reaches = at === '' || isBelow(path, at) || (isBelow(at, path) && !isOfOldSite);
  return reaches ? undefined : `its path is ${cookie.path}`;
}
