import robotsParser from 'robots-parser';
import { addressPath, formatAddress } from '../../../core/address/address.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { oldAddressesIn } from '../../../core/pages/compare/old-addresses.js';
import { counted } from '../../../core/text/numbers.js';
import type { WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from './both-sites.js';

const robot = 'Googlebot';
const mostPages = 500;

/** The robots.txt of a site's host (RFC 9309); undefined where it has none. */
export async function robotsOf(
  { signal }: Pick<StepRun, 'signal'>,
  site: WebSite,
): Promise<string | undefined> {
  const url = new URL('/robots.txt', formatAddress(site.address));
  const answer = await site.follow(url, signal, { most: 512 * 1024 }).catch(() => undefined);
  signal.throwIfAborted();
  return answer && answer.status < 300 ? answer.html || undefined : undefined;
}

/** Whether a robots.txt lets a program read a page. @param url where it is */
export function allowedBy(robots: string | undefined, url: string): (page: string, agent: string) => boolean {
  // Its types say that it is a module of the newer form, which it is not.
  const parse = robotsParser as unknown as typeof robotsParser.default;
  const rules = parse(url, robots ?? '');
  return (page, agent) => rules.isAllowed(page, agent) !== false;
}

/**
 * Compares what the robots.txt of both sites let search engines see.
 * @param paths pages of both sites, below their addresses
 */
export function robotsFindings(
  sites: BothSites,
  old: string | undefined,
  next: string | undefined,
  paths: readonly string[],
): Finding[] {
  const { address, compared } = sites;
  const place = new URL('/robots.txt', address).href;
  const allowed = (text: string | undefined, base: string) => {
    const allows = allowedBy(text, new URL('/robots.txt', base).href);
    return (path: string) => allows(base + path, robot);
  };
  const wish = compared.expected.searchEngines;
  const [was, is] = [allowed(old, formatAddress(sites.old.address)), allowed(next, address)];
  // What only its keepers see need not be found.
  const inside = [sites.family.web?.administration, sites.family.loginPage && `/${sites.family.loginPage}`];
  const isInside = (path: string) => inside.some(one => one !== undefined && path.startsWith(one));
  const asked = ['/', ...paths.filter(path => !isInside(path)).slice(0, mostPages)];
  const closed = asked.filter(path => was(path) && !is(path));
  const opened = asked.filter(path => !was(path) && is(path));
  const findings: Finding[] = [];
  const report = (level: 'stop' | 'warn', what: string) =>
    findings.push(
      finding({
        level,
        code: 'robots-txt-differs',
        place,
        what,
        remedy: 'Compare both files, and correct the new one before the cutover',
      }),
    );
  if (closed.length > 0 && wish !== 'hide')
    report(
      closed.includes('/') ? 'stop' : 'warn',
      `The robots.txt of the new site keeps search engines from ${counted(closed.length, 'page')} that they may see at the old one, such as ${closed[0]}`,
    );
  if (opened.length > 0 && wish !== 'show')
    report(
      'warn',
      `The robots.txt of the new site lets search engines see ${counted(opened.length, 'page')} that the old one keeps from them, such as ${opened[0]}`,
    );
  const [left] = oldAddressesIn(next ?? '', '', compared.rules, compared.oldHosts);
  if (left) report('warn', `The robots.txt of the new site names the old address ${left.text}`);
  const sitemaps = (text: string | undefined) => /^\s*sitemap:/im.test(text ?? '');
  if (sitemaps(old) && !sitemaps(next) && addressPath(sites.new.address) === '')
    report('warn', 'The robots.txt of the new site names no sitemap, that of the old one does');
  return findings;
}
