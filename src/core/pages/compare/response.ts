import { addressPath, parseAddress } from '../../address/address.js';
import { headerOf, isHtml } from '../read/answer.js';
import { charsetOf } from '../read/charset.js';
import { cookieFault, cookiesOf, missingHeaders, namingHeaders } from './headers.js';
import { oldAddressesIn, wherePlacesAre } from './old-addresses.js';
import type { Look, PagePair } from './page-pair.js';

/** Compares what an answer says besides its content. */
export function compareHeaders(pair: PagePair): void {
  const { old, again, next } = pair.looks;
  const twice = new Set(missingHeaders(again.answer, next.answer));
  for (const name of missingHeaders(old.answer, next.answer))
    if (twice.has(name)) pair.add('page-header-missing', name, `lacks the header ${name}`, name);
  for (const { name, value } of namingHeaders(next.answer)) {
    const [first] = oldAddressesIn(value, '', pair.sites.rules, pair.sites.oldHosts);
    if (first) pair.add('page-header-old-host', name, `names the old host in ${name}: ${first.text}`, name);
  }
  compareCookies(pair);
  compareType(pair);
  compareIndexing(pair);
}

function compareCookies(pair: PagePair): void {
  const { old, next } = pair.looks;
  const address = parseAddress(pair.sites.newAddress);
  const [host, path] = [address.host, addressPath(address)];
  const cookies = cookiesOf(next.answer);
  for (const cookie of cookies) {
    const fault = cookieFault(cookie, host, path, pair.sites.oldPath);
    if (fault)
      pair.add(
        'page-cookie-differs',
        `set-cookie ${cookie.name}`,
        `sets the cookie ${cookie.name}: ${fault}`,
        fault,
      );
  }
  for (const cookie of cookiesOf(old.answer)) {
    const now = cookies.find(({ name }) => name === cookie.name);
    const lost = now && [
      ...(cookie.secure && !now.secure ? ['Secure'] : []),
      ...(cookie.httpOnly && !now.httpOnly ? ['HttpOnly'] : []),
    ];
    if (lost && lost.length > 0)
      pair.add(
        'page-cookie-differs',
        `set-cookie ${cookie.name}`,
        `sets the cookie ${cookie.name} without ${lost.join(' and ')}`,
        lost.join(),
      );
  }
}

function compareType(pair: PagePair): void {
  const { old, next } = pair.looks;
  const typeOf = ({ answer }: Look) => headerOf(answer, 'content-type')?.split(';')[0] ?? 'no type';
  if (isHtml(old.answer) !== isHtml(next.answer))
    pair.add(
      'page-type-differs',
      'content-type',
      `is served as ${typeOf(next)} instead of ${typeOf(old)}`,
      typeOf(next),
    );
  const charset = (look: Look) =>
    (charsetOf(headerOf(look.answer, 'content-type')) ?? look.page.charset ?? '').replace(/^utf8$/, 'utf-8');
  if (charset(old) !== '' && charset(old) !== charset(next))
    pair.add(
      'page-charset-differs',
      'content-type',
      `is sent as ${charset(next) || 'no character set'} instead of ${charset(old)}`,
      charset(next),
    );
}

function compareIndexing(pair: PagePair): void {
  const { old, next } = pair.looks;
  const indexing = (look: Look) =>
    robotsOf(`${headerOf(look.answer, 'x-robots-tag') ?? ''} ${look.page.robots}`);
  const [was, is] = [indexing(old), indexing(next)];
  if (was === is) return;
  const wish = pair.sites.expected.searchEngines;
  const isWanted = (wish === 'hide' && /noindex/.test(is)) || (wish === 'show' && !/noindex/.test(is));
  if (isWanted) pair.expected.add(wish === 'hide' ? 'hidden from search engines' : 'shown to search engines');
  else
    pair.add(
      'page-indexing-differs',
      'robots',
      `says “${is || 'index'}” to search engines instead of “${was || 'index'}”`,
      is,
    );
}

/** What of a page's words to robots keeps it out of an index, or its links from being followed. */
function robotsOf(text: string): string {
  const words = new Set(text.toLowerCase().match(/noindex|nofollow|none|noarchive/g) ?? []);
  if (words.delete('none')) words.add('noindex').add('nofollow');
  return [...words].sort().join(', ');
}

/** Finds old addresses in a new page, wherever they are in it. */
export async function findOldAddresses(pair: PagePair, expectedHtml: string): Promise<void> {
  const { html } = pair.looks.next.answer;
  const { rules, oldHosts } = pair.sites;
  const found = oldAddressesIn(html, expectedHtml, rules, oldHosts);
  if (found.length === 0) return;
  const wheres = await wherePlacesAre(
    html,
    found.map(({ at }) => at),
  );
  for (const [i, { text }] of found.entries())
    pair.add(
      'page-old-address',
      wheres[i]!,
      `holds the old address ${text} (${wheres[i]})`,
      `${wheres[i]} ${text}`,
    );
}
