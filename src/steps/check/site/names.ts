import { randomBytes } from 'node:crypto';
import { type Address, effectivePort, formatAddress, parseAddress } from '../../../core/address/address.js';
import { isReservedName } from '../../../core/address/reserved.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { twinOf } from '../../../core/redirects/redirect-set.js';
import { type SeenPage, WebSite } from '../../../ends/http/web-site.js';
import { lookAtCertificate } from '../../../ends/trust/certificate.js';
import type { StepRun } from '../../move/step.js';
import { familyFindings } from './address-families.js';
import type { BothSites } from './both-sites.js';

const soonDays = 21;
const dayMs = 86_400_000;

/** How the new site answers under its names: an address that does not exist, HTTP, the twin with or without www, IPv4 and IPv6. */
export async function nameFindings(run: StepRun, sites: BothSites): Promise<Finding[]> {
  const parts = await Promise.all([
    unknownAddress(run, sites),
    withoutTls(run, sites),
    twin(run, sites),
    familyFindings(run, sites),
    certificates(run, sites),
  ]);
  return parts.flat();
}

/** What was seen of the new site while its pages were asked for. */
export function reachedFindings({ new: site, address }: BothSites): Finding[] {
  const findings: Finding[] = [];
  if (site.forcesHttps)
    findings.push(
      finding({
        level: 'note',
        code: 'https-forced',
        place: site.reached,
        what: 'The new host sends visitors of HTTP to HTTPS; its pages were asked for there',
        remedy: 'Nothing needs to be done',
      }),
    );
  if (site.refused)
    findings.push(
      finding({
        level: 'note',
        code: 'certificate-of-new-site',
        place: site.reached,
        what: `The pages of ${address} were seen over a connection whose certificate browsers refuse: ${site.refused.cause}`,
        remedy: `Have a certificate issued before the cutover; until then new.certificate: ${site.refused.fingerprint} accepts this one alone`,
      }),
    );
  return findings;
}

async function ask(
  site: WebSite,
  path: string,
  signal: AbortSignal,
  asking = {},
): Promise<SeenPage | undefined> {
  const answer = await site.get(path, signal, asking).catch(() => undefined);
  signal.throwIfAborted();
  return answer;
}

async function unknownAddress(
  { signal }: StepRun,
  { old, new: next, address }: BothSites,
): Promise<Finding[]> {
  const path = `/${randomBytes(9).toString('hex')}/`;
  const [was, is] = await Promise.all([ask(old, path, signal), ask(next, path, signal)]);
  if (!was || !is || was.status < 400 || is.status >= 400) return [];
  const how = is.redirects > 0 || is.status >= 300 ? `leads to ${is.address}` : `answers ${is.status}`;
  return [
    finding({
      level: 'warn',
      code: 'unknown-address-answers',
      place: address + path,
      what: `An address that does not exist ${how} at the new site; the old one answers ${was.status}`,
      remedy:
        'Look for a rule of the server that catches everything, or a page that is shown in place of an error',
    }),
  ];
}

async function withoutTls(
  { signal, move }: StepRun,
  { old, new: next, address }: BothSites,
): Promise<Finding[]> {
  if (!address.startsWith('https:') || next.forcesHttps) return [];
  // Over a reach for HTTPS alone, HTTP is asked at its usual port, where something else may be.
  if (move.sheet.new.reach?.startsWith('https:')) return [];
  const plain = async (site: WebSite) => {
    const url = new URL(`${formatAddress(site.address)}/`);
    url.protocol = 'http:';
    return site.follow(url, signal, { isOneHop: true }).catch(() => undefined);
  };
  const [was, is] = await Promise.all([plain(old), plain(next)]);
  signal.throwIfAborted();
  const isForwarded = (answer: SeenPage) =>
    answer.status >= 300 && answer.status < 400 && answer.address.startsWith('https:');
  if (!was || !is || !isForwarded(was) || is.status >= 400 || isForwarded(is)) return [];
  return [
    finding({
      level: 'warn',
      code: 'http-not-forwarded',
      place: address.replace('https:', 'http:'),
      what: `The old site sends visitors of HTTP to HTTPS; the new one answers ${is.status}`,
      remedy: 'Set the redirect in .htaccess or at the new server, once its certificate is there',
    }),
  ];
}

async function twin({ signal, move }: StepRun, { old, new: next, address }: BothSites): Promise<Finding[]> {
  const [oldTwin, newTwin] = [old, next].map(({ address: own }) => twinOf(own)?.host);
  if (oldTwin === undefined || newTwin === undefined) return [];
  // Without a place where it is reached, its own name would have to lead there.
  const was =
    move.sheet.old.reach === undefined
      ? await named(old.address, oldTwin, signal)
      : await ask(old, '/', signal, { host: oldTwin, isOneHop: true });
  const leads = (answer: SeenPage, site: WebSite) =>
    site.pathOf(answer.address, answer.address) !== undefined && answer.status < 400;
  if (!was || !leads(was, old)) return [];
  const is = await ask(next, '/', signal, { host: newTwin, isOneHop: true });
  if (is && leads(is, next)) return [];
  return [
    finding({
      level: 'warn',
      code: 'twin-differs',
      place: `${next.address.scheme}://${newTwin}`,
      what: `${oldTwin} leads to the old site; ${newTwin} ${is ? `answers ${is.status} at the new host${is.status < 400 && is.status >= 300 ? ` and leads to ${is.address}` : ''}` : 'does not answer at the new host'}`,
      remedy: `Let the new server answer for ${newTwin} too, and lead to ${address}`,
    }),
  ];
}

async function named(address: Address, host: string, signal: AbortSignal): Promise<SeenPage | undefined> {
  if (isReservedName(host)) return undefined;
  const site = new WebSite({ ...address, host, unicodeHost: host });
  try {
    return await ask(site, '/', signal, { isOneHop: true });
  } finally {
    await site.close();
  }
}

/** The certificate that the new host shows for each name of the site. */
async function certificates({ signal, move }: StepRun, { new: next }: BothSites): Promise<Finding[]> {
  const { sheet } = move;
  const reach = parseAddress(sheet.new['reach-https'] ?? sheet.new.reach ?? sheet.new.address);
  // Where HTTPS is is not known for a server at a port of its own.
  if (next.address.scheme !== 'https' || (reach.scheme === 'http' && reach.port !== undefined)) return [];
  if (sheet.new.reach === undefined && isReservedName(next.address.host)) return [];
  const at = reach.scheme === 'https' ? reach : { ...reach, scheme: 'https' as const, port: undefined };
  const names = [next.address.host, twinOf(next.address)?.host].filter(name => name !== undefined);
  const seen = await Promise.all(names.map(name => certificateOf(at, name, signal)));
  signal.throwIfAborted();
  return seen.flat();
}

async function certificateOf(at: Address, name: string, signal: AbortSignal): Promise<Finding[]> {
  const place = `${name} at ${at.host}:${effectivePort(at)}`;
  const report = (level: 'warn' | 'note', what: string, remedy: string) => [
    finding({ level, code: 'certificate-of-new-site', place, what, remedy }),
  ];
  const before = 'Have it issued before the cutover, or visitors see a warning';
  try {
    const { refused, until, issuer } = await lookAtCertificate(at.host, effectivePort(at), name, signal);
    const days = Math.floor((until.getTime() - Date.now()) / dayMs);
    if (refused !== undefined)
      return report(
        'warn',
        `The certificate of the new host for ${name} would be refused by browsers: ${refused}`,
        before,
      );
    if (days < soonDays)
      return report(
        'warn',
        `The certificate of the new host for ${name} (${issuer}) ends in ${days} days`,
        'See that it is renewed at the new host',
      );
    return [];
  } catch (error) {
    return report(
      'warn',
      `The new host shows no certificate for ${name}: ${(error as Error).message}`,
      before,
    );
  }
}
