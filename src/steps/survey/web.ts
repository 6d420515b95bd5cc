import { isIP } from 'node:net';
import { type Address, effectivePort, formatAddress, parseAddress } from '../../core/address/address.js';
import { isReservedName } from '../../core/address/reserved.js';
import { type ShownRecord, shownRecord } from '../../core/dns/records/record.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import {
  frontFindings,
  pageFindings,
  readServerHeaders,
  type ServerHeaders,
} from '../../core/pages/read/server-headers.js';
import type { Family } from '../../core/site/families/family.js';
import { listed } from '../../core/text/listed.js';
import { Resolver } from '../../ends/dns/resolver.js';
import type { SeenPage } from '../../ends/http/web-site.js';
import { lookAtCertificate, type SeenCertificate } from '../../ends/trust/certificate.js';
import { askableSiteOf } from '../move/sites.js';
import type { StepRun } from '../move/step.js';

/** Who answers at an address. */
export interface WebSurvey {
  /** Where it was asked, as far as it was: an address set aside for examples is not. */
  readonly asked: string | undefined;
  readonly home: number | undefined;
  readonly login: number | undefined;
  readonly front: ServerHeaders | undefined;
  readonly from: string | undefined;
  /** The server's clock less this machine's, in seconds. */
  readonly skew: number | undefined;
  /** The last day of its certificate, ISO 8601, and who gave it out. */
  readonly certificate: { readonly until: string; readonly issuer: string } | undefined;
}

/** A site that was not asked. */
export const notAsked: WebSurvey = {
  asked: undefined,
  home: undefined,
  login: undefined,
  front: undefined,
  from: undefined,
  skew: undefined,
  certificate: undefined,
};
const dayMs = 86_400_000;
const soonDays = 21;

/** Asks for the old site's home and login page and looks at who answers. */
export async function surveyOldWeb(
  run: StepRun,
  family: Family,
): Promise<{ web: WebSurvey; findings: Finding[] }> {
  const { oldAddress, sheet } = run.move;
  const site = askableSiteOf(run.move, 'old');
  if (!site) return { web: notAsked, findings: [] };
  const asked = sheet.old.reach ?? formatAddress(oldAddress);
  const url = formatAddress(oldAddress);
  const { certificate, findings } = await surveyCertificate(run, oldAddress, sheet.old.reach, 'old');
  let home: SeenPage;
  try {
    home = await site.get('/', run.signal);
  } catch (error) {
    run.signal.throwIfAborted();
    const silent = finding({
      level: 'warn',
      code: 'old-unreachable',
      place: asked,
      what: `The old site does not answer: ${(error as Error).message}`,
      remedy: 'Check old.address; without it, nothing can be compared at the end',
    });
    return { web: { ...notAsked, asked, certificate }, findings: withSilence(findings, silent) };
  }
  findings.push(
    ...pageFindings({ which: 'home page', url: `${url}/`, ...home }, family.troubleIn(home.html)),
  );
  const front = readServerHeaders(home.headers);
  findings.push(...frontFindings(url, front));
  let login: number | undefined;
  if (family.loginPage !== undefined) {
    const page = await site.get(`/${family.loginPage}`, run.signal).catch(() => undefined);
    login = page?.status;
    const well = home.status < 400 && new URL(home.address).host === new URL(url).host;
    if (page && well)
      findings.push(
        ...pageFindings({ which: 'login page', url: `${url}/${family.loginPage}`, ...page }, undefined),
      );
  }
  const { from } = home;
  return {
    web: { asked, home: home.status, login, front, from, skew: skewOf(home), certificate },
    findings,
  };
}

/** Adds that a server does not answer, unless its refused certificate was reported already. */
function withSilence(findings: readonly Finding[], silent: Finding): Finding[] {
  return findings.some(({ code }) => code === 'certificate-refused') ? [...findings] : [...findings, silent];
}

/** Asks the new end's web server for what it is; what it shows does not matter yet. */
export async function surveyNewWeb(run: StepRun): Promise<{ web: WebSurvey; findings: Finding[] }> {
  const { newAddress, oldAddress, sheet } = run.move;
  const site = askableSiteOf(run.move, 'new');
  // Before the cutover the name leads to the old host, where the address stays.
  const same = sheet.new.reach === undefined && newAddress.host === oldAddress.host;
  if (!site || same) return { web: notAsked, findings: [] };
  const asked = sheet.new.reach ?? formatAddress(newAddress);
  const { certificate, findings } = await surveyCertificate(run, newAddress, sheet.new.reach, 'new');
  try {
    const page = await site.get('/', run.signal);
    const front = readServerHeaders(page.headers);
    const { from, status } = page;
    return {
      web: { asked, home: status, login: undefined, front, from, skew: skewOf(page), certificate },
      findings: [...findings, ...skewFindings(asked, skewOf(page))],
    };
  } catch (error) {
    run.signal.throwIfAborted();
    const silent = finding({
      level: 'warn',
      code: 'new-unreachable',
      place: asked,
      what: `The new web server does not answer: ${(error as Error).message}`,
      remedy: 'Check new.reach, and that the server is set up for the new host name',
    });
    return { web: { ...notAsked, asked, certificate }, findings: withSilence(findings, silent) };
  }
}

function skewOf({ headers, asked }: SeenPage): number | undefined {
  const said = Date.parse(String(headers.date));
  return Number.isNaN(said) ? undefined : Math.round((said - asked.getTime()) / 1000);
}

/** What a clock that is wrong by minutes does. */
export function skewFindings(place: string, skew: number | undefined): Finding[] {
  if (skew === undefined || Math.abs(skew) < 300) return [];
  return [
    finding({
      level: 'warn',
      code: 'clock-wrong',
      place,
      what: `Its clock is ${Math.round(Math.abs(skew) / 60)} minutes ${skew > 0 ? 'ahead of' : 'behind'} this machine’s`,
      remedy: 'Have the host set it; logins, planned posts and certificates go by it',
    }),
  ];
}

/** Looks at the certificate that an end shows for its name, and how browsers would judge it. */
export async function surveyCertificate(
  run: StepRun,
  address: Address,
  reach: string | undefined,
  end: 'old' | 'new',
): Promise<{ certificate: WebSurvey['certificate']; findings: Finding[] }> {
  const { certificate: wanted } = run.move.sheet[end];
  const at = reach === undefined ? address : parseAddress(reach);
  const findings: Finding[] = [];
  if (at.scheme !== 'https' || address.scheme !== 'https') return { certificate: undefined, findings };
  let seen: SeenCertificate;
  try {
    seen = await lookAtCertificate(at.host, effectivePort(at), address.host, run.signal);
  } catch {
    // Asking for the page shows why.
    return { certificate: undefined, findings };
  }
  const place = `https://${address.host}`;
  const days = Math.floor((seen.until.getTime() - Date.now()) / dayMs);
  if (seen.refused !== undefined) {
    findings.push(
      finding({
        level: 'warn',
        code: 'certificate-refused',
        place,
        what: `Browsers refuse the certificate of the ${end} site: ${seen.refused}`,
        remedy: refusedRemedy(end, wanted === undefined ? seen.fingerprint : undefined),
      }),
    );
  } else if (days < soonDays) {
    findings.push(
      finding({
        level: 'warn',
        code: 'certificate-ends-soon',
        place,
        what: `The certificate of the ${end} site expires in ${days} ${days === 1 ? 'day' : 'days'}`,
        remedy:
          end === 'new'
            ? 'Make sure that it is renewed automatically'
            : 'The redirects of the old address need one for as long as they stay; make sure that it is renewed',
      }),
    );
  }
  return { certificate: { until: seen.until.toISOString(), issuer: seen.issuer }, findings };
}

/** @param unaccepted the fingerprint, where the sheet does not accept it yet */
function refusedRemedy(end: 'old' | 'new', unaccepted: string | undefined): string {
  const get = end === 'new' ? 'Get one for the new host name before the cutover' : 'Renew it';
  return unaccepted === undefined
    ? get
    : `${get}; to accept this one for the comparison, write ${end}.certificate: ${unaccepted}`;
}

const asked: readonly string[] = ['A', 'AAAA', 'CNAME', 'NS', 'MX', 'TXT', 'CAA'];
const longTtl = 3600;

/** The records of the addresses' hosts, with their TTLs. */
export async function surveyDns(
  run: StepRun,
  end: 'old' | 'new',
): Promise<{ records: ShownRecord[]; findings: Finding[] }> {
  const { sheet } = run.move;
  const { host } = end === 'old' ? run.move.oldAddress : run.move.newAddress;
  const resolvers = sheet.dns?.resolvers ?? [];
  const findings: Finding[] = [];
  if (isIP(host) !== 0 || (isReservedName(host) && resolvers.length === 0)) return { records: [], findings };
  const resolver = new Resolver(resolvers);
  let records: ShownRecord[];
  try {
    records = (await Promise.all(asked.map(type => resolver.records(host, type, run.signal))))
      .flat()
      .map(shownRecord);
  } catch (error) {
    run.signal.throwIfAborted();
    findings.push(
      finding({
        level: 'note',
        code: 'dns-not-asked',
        place: host,
        what: `Its DNS records could not be looked up: ${(error as Error).message}`,
        remedy: 'Name a resolver in dns.resolvers, or look the records up by hand before the cutover',
      }),
    );
    return { records: [], findings };
  }
  const unique = [...new Map(records.map(one => [`${one.name} ${one.type} ${one.value}`, one])).values()];
  return { records: unique, findings: dnsFindings(run, end, host, unique) };
}

function dnsFindings(
  run: StepRun,
  end: 'old' | 'new',
  host: string,
  records: readonly ShownRecord[],
): Finding[] {
  const findings: Finding[] = [];
  const report = (level: Finding['level'], code: Finding['code'], what: string, remedy: string) =>
    findings.push(finding({ level, code, place: host, what, remedy }));
  const planned = run.move.sheet.dns?.['address-records'];
  const leading = records.filter(({ type }) => type === 'A' || type === 'AAAA' || type === 'CNAME');
  const changes = end === (run.move.oldAddress.host === run.move.newAddress.host ? 'old' : 'new');
  if (leading.length === 0) {
    report(
      end === 'old' ? 'warn' : 'note',
      'dns-no-address',
      `No record leads from ${host} to a host`,
      end === 'old'
        ? 'Check old.address'
        : 'It needs one at the cutover; make sure that you can change the zone',
    );
  }
  const values = leading.map(({ value }) => value);
  if (
    end === 'old' &&
    planned &&
    leading.some(({ type }) => type === 'A') &&
    !(planned.old ?? values).some(one => values.includes(one))
  ) {
    report(
      'warn',
      'dns-address-differs',
      `It leads to ${values.join(', ')}, not to ${listed(planned.old ?? [])} as dns.address-records says`,
      'Correct dns.address-records.old, or find out what is in front of the old host',
    );
  }
  if (
    changes &&
    planned &&
    !planned.new.some(one => one.includes(':')) &&
    leading.some(({ type }) => type === 'AAAA')
  ) {
    report(
      'warn',
      'dns-ipv6-stays',
      'An AAAA record leads to the present host too, and the plan names no new one',
      'Change or remove the AAAA record at the cutover, or half of the visitors stay with the old host',
    );
  }
  const longest = Math.max(0, ...leading.map(({ ttl }) => ttl));
  if (changes && longest > longTtl) {
    report(
      'warn',
      'dns-ttl-long',
      `The TTL of its address is ${longest} seconds; visitors would go to the old host that long after the change`,
      'Set it to 300 seconds at least that long before the cutover',
    );
  }
  if (records.some(({ type }) => type === 'CAA') && changes) {
    report(
      'note',
      'dns-caa',
      'A CAA record says who may give out certificates for it',
      'Make sure that the new host’s certificate authority is among them',
    );
  }
  return findings;
}
