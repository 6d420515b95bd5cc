import { domainToASCII, domainToUnicode } from 'node:url';
import { UsageError } from '../errors.js';

/** The URL under which a site is served, without a closing slash (RFC 3986; hosts by the WHATWG URL Standard). */
export interface Address {
  readonly scheme: 'http' | 'https';
  /** Lower case, in punycode where it is internationalised. */
  readonly host: string;
  /** The same host in Unicode; equal to `host` for a plain one. */
  readonly unicodeHost: string;
  /** Only where it is not the scheme's own. */
  readonly port: number | undefined;
  /** Path segments, percent-encoded as a URL writes them; none for a site at the root of its host. */
  readonly segments: readonly string[];
}

/**
 * Reads an address as an administrator writes it.
 * @throws UsageError for another scheme, a query, a fragment, credentials, or no host.
 */
export function parseAddress(text: string): Address {
  const wrong = (cause: string, remedy: string) =>
    new UsageError({ doing: `Reading the address "${text}"`, cause, remedy });
  if (!/^\s*[a-z][a-z0-9+.-]*:\/\//i.test(text))
    throw wrong(
      'it does not begin with http:// or https://',
      'Write it whole, as in https://club.example/site',
    );
  let url: URL;
  try {
    url = new URL(text.trim());
  } catch {
    throw wrong('it is not a URL', 'Write it whole, as in https://club.example/site');
  }
  if (url.protocol !== 'http:' && url.protocol !== 'https:') {
    throw wrong(`its scheme is ${url.protocol}`, 'An address begins with http:// or https://');
  }
  if (url.search || url.hash || text.includes('?') || text.includes('#')) {
    throw wrong('it has a query or a fragment', 'Leave out everything from the first ? or # on');
  }
  if (url.username || url.password) {
    throw wrong('it has a user name in it', 'An address is where visitors go; leave the user name out');
  }
  const host = url.hostname.replace(/\.$/, '');
  return {
    scheme: url.protocol === 'http:' ? 'http' : 'https',
    host: domainToASCII(host) || host,
    unicodeHost: domainToUnicode(host) || host,
    port: url.port ? Number(url.port) : undefined,
    segments: normalPath(url.pathname).split('/').filter(Boolean),
  };
}

/** A path in which characters that need no encoding have none (RFC 3986, 6.2.2.2), and quotes have one. */
function normalPath(path: string): string {
  return path.replaceAll("'", '%27').replace(/%[0-9a-f]{2}/gi, code => {
    const char = String.fromCharCode(Number.parseInt(code.slice(1), 16));
    return /[\w.~-]/.test(char) ? char : code.toUpperCase();
  });
}

/** The address as text, without a closing slash. */
export function formatAddress(address: Address): string {
  const port = address.port === undefined ? '' : `:${address.port}`;
  return `${address.scheme}://${address.host}${port}${addressPath(address)}`;
}

/** The path of an address: empty at the root, otherwise with a leading and no closing slash. */
export function addressPath(address: Address): string {
  return address.segments.map(segment => `/${segment}`).join('');
}

/** The port that a client connects to. */
export function effectivePort(address: Address): number {
  return address.port ?? (address.scheme === 'https' ? 443 : 80);
}
