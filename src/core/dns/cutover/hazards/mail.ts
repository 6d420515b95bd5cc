import { textOf } from '../../../bytes.js';
import type { Finding } from '../../../findings/findings.js';
import { listed } from '../../../text/listed.js';
import { targetOf, textOfTxt } from '../../records/data.js';
import { ipAddress } from '../../records/ip.js';
import { below, type DnsName, hostOf, keyOf, labelsOf, nameOfHost } from '../../records/name.js';
import { about, type Hazards } from './context.js';

/** RFC 7208, section 4.6.4. */
const mostLookups = 10;

/** What the cutover does to mail: where it is received, who may send it, and where programs look for its servers. */
export function mailHazards(hazards: Hazards): Finding[] {
  return [...exchangers(hazards), ...senders(hazards), ...keys(hazards), ...services(hazards)];
}

/** MX records that lead to the old host, or would move with the site. */
function exchangers(hazards: Hazards): Finding[] {
  return hazards.facts.zones.flatMap(({ zone }) => {
    const findings: Finding[] = [];
    for (const { name, data } of zone.records.filter(({ type }) => type === 'MX')) {
      const exchange = targetOf('MX', data)!;
      const bond = hazards.bond(exchange);
      if (bond === 'moves') {
        findings.push(
          about(
            name,
            'stop',
            'dns-mail-moves',
            `Mail for ${hostOf(name)} is received at ${hostOf(exchange)}, which moves to the new host`,
            `Give the mail server a name of its own with the old address, and let the MX record of ${hostOf(name)} lead there, before the cutover`,
          ),
        );
      } else if (bond === 'old host') {
        findings.push(
          about(
            name,
            'warn',
            'dns-mail-at-old-host',
            `Mail for ${hostOf(name)} is received at the old host (${hostOf(exchange)})`,
            'Keep the old host’s mail, or move the mailboxes and the MX record, before the old host ends',
          ),
        );
      }
    }
    // A domain without MX records receives mail at its address (RFC 5321, section 5.1).
    const hasMail = zone.records.some(({ type }) => type === 'MX');
    if (!hasMail && hazards.moves(zone.apex) && policyOf(hazards, zone.apex) !== undefined) {
      findings.push(
        about(
          zone.apex,
          'warn',
          'dns-mail-moves',
          `${hostOf(zone.apex)} has no MX record, so its mail is received at its address, which moves`,
          'If it receives mail, add an MX record that leads to a name with the old address',
        ),
      );
    }
    return findings;
  });
}

/** The SPF policy of a name (RFC 7208). */
function policyOf(hazards: Hazards, name: DnsName): string | undefined {
  const texts = hazards.records(name, 'TXT').filter(({ type }) => type === 'TXT');
  return texts.map(({ data }) => textOf(textOfTxt(data))).find(text => /^v=spf1(?: |$)/i.test(text));
}

interface Mechanism {
  readonly kind: string;
  readonly value: string | undefined;
}

function mechanismsOf(policy: string): Mechanism[] {
  return policy
    .split(/\s+/)
    .slice(1)
    .flatMap(term => {
      const parts = /^[+?~-]?(a|mx|ptr|exists|include|ip4|ip6|all)(?:[:/](.*))?$/i.exec(term);
      const redirect = /^(redirect)=(.*)$/i.exec(term);
      const [, kind, value] = parts ?? redirect ?? [];
      return kind === undefined ? [] : [{ kind: kind.toLowerCase(), value }];
    });
}

/** How many look-ups a policy costs, with those of the policies that it includes. */
function lookupsOf(hazards: Hazards, policy: string, seen: ReadonlySet<string>): number {
  const costly = new Set(['a', 'mx', 'ptr', 'exists', 'include', 'redirect']);
  return mechanismsOf(policy).reduce((sum, { kind, value }) => {
    if (!costly.has(kind)) return sum;
    const inner = kind === 'include' || kind === 'redirect' ? nameIn(value) : undefined;
    if (!inner || seen.has(keyOf(inner))) return sum + 1;
    const next = policyOf(hazards, inner);
    return sum + 1 + (next === undefined ? 0 : lookupsOf(hazards, next, new Set([...seen, keyOf(inner)])));
  }, 0);
}

function nameIn(value: string | undefined): DnsName | undefined {
  try {
    return value === undefined || value.includes('%') ? undefined : nameOfHost(value.split('/')[0]!);
  } catch {
    return undefined;
  }
}

/** Policies of who may send mail, by what of them leads to the old host. */
function senders(hazards: Hazards): Finding[] {
  const domains = hazards.facts.zones.map(({ zone }) => zone.apex);
  return domains.flatMap(domain => {
    const policy = policyOf(hazards, domain);
    const findings: Finding[] = [];
    if (policy === undefined) return findings;
    const lookups = lookupsOf(hazards, policy, new Set([keyOf(domain)]));
    if (lookups > mostLookups) {
      findings.push(
        about(
          domain,
          'warn',
          'dns-spf-too-long',
          `The SPF policy costs ${lookups} look-ups, and receivers refuse a policy with more than ${mostLookups}`,
          'Replace some of its names by their addresses',
        ),
      );
    }
    const bound = mechanismsOf(policy).filter(one => leadsToOld(hazards, domain, one));
    if (bound.length === 0) return findings;
    const named = listed(bound.map(({ kind, value }) => (value === undefined ? kind : `${kind}:${value}`)));
    const covered = mechanismsOf(policy).some(one => coversNew(hazards, one));
    findings.push(
      about(
        domain,
        'warn',
        'dns-spf-old-host',
        `The SPF policy allows the old host to send mail (${named})${covered ? '' : ', and names the new one nowhere'}`,
        covered
          ? 'Remove the old host from it once it sends no mail any more'
          : `If the new site sends mail, add its address to the policy before the cutover; keep the old one as long as mail is sent from there`,
      ),
    );
    const strict = strictPolicy(hazards, domain);
    if (!covered && strict !== undefined) {
      findings.push(
        about(
          domain,
          'warn',
          'dns-dmarc-strict',
          `The DMARC policy asks receivers to ${strict} mail that is not allowed, and the new host is not allowed yet`,
          'Add the new host to the SPF policy, or sign its mail with DKIM, before the new site sends mail',
        ),
      );
    }
    return findings;
  });
}

/** What receivers are asked to do by DMARC (RFC 7489). */
function strictPolicy(hazards: Hazards, domain: DnsName): string | undefined {
  const texts = hazards.records(below('_dmarc', domain), 'TXT').filter(({ type }) => type === 'TXT');
  const policy = texts.map(({ data }) => textOf(textOfTxt(data))).find(text => /^v=DMARC1/i.test(text));
  return /;\s*p=(reject|quarantine)/i.exec(policy ?? '')?.[1]?.toLowerCase();
}

function leadsToOld(hazards: Hazards, domain: DnsName, { kind, value }: Mechanism): boolean {
  if (kind === 'ip4' || kind === 'ip6')
    return [...hazards.old].some(address => isInNetwork(address, value ?? ''));
  const name = value === undefined || value.startsWith('/') ? domain : nameIn(value);
  if (!name) return false;
  if (kind === 'a') return hazards.bond(name) !== undefined;
  if (kind !== 'mx') return false;
  const exchanges = hazards.records(name, 'MX').filter(({ type }) => type === 'MX');
  return exchanges.some(({ data }) => hazards.bond(targetOf('MX', data)!) !== undefined);
}

function coversNew(hazards: Hazards, { kind, value }: Mechanism): boolean {
  if (kind !== 'ip4' && kind !== 'ip6') return false;
  return (
    [...hazards.new].every(address => {
      const isOfKind = address.includes(':') === (kind === 'ip6');
      return isOfKind ? isInNetwork(address, value ?? '') : true;
    }) && [...hazards.new].some(address => address.includes(':') === (kind === 'ip6'))
  );
}

/** Whether an address is in a network as SPF writes it: `192.0.2.0/24`. */
function isInNetwork(address: string, network: string): boolean {
  const [base, length] = network.split('/');
  const [ip, of] = [ipAddress(address), ipAddress(base!)];
  if (!ip || !of || ip.version !== of.version) return false;
  const bits = length === undefined ? ip.data.length * 8 : Number(length);
  return [...ip.data].every((byte, i) => {
    const kept = Math.min(8, Math.max(0, bits - i * 8));
    const mask = (0xff00 >> kept) & 0xff;
    return (byte & mask) === (of.data[i]! & mask);
  });
}

/** DKIM keys that the old host has by an alias. */
function keys(hazards: Hazards): Finding[] {
  return hazards.facts.zones.flatMap(({ zone }) =>
    zone.records
      .filter(({ name, type }) => type === 'CNAME' && labelsOf(keyOf(name))[1] === '_domainkey')
      .flatMap(({ name, data }) => {
        const target = targetOf('CNAME', data)!;
        const parent = nameOfParent(target);
        if (!hazards.bond(parent) && !hazards.bond(target)) return [];
        return about(
          name,
          'warn',
          'dns-dkim-old-host',
          `Its DKIM key is kept by the old host (${hostOf(target)})`,
          'Publish the key of whoever sends the mail from now on, before the old host ends',
        );
      }),
  );
}

/** The host behind a key: `selector._domainkey.mail.example` is of `mail.example`. */
function nameOfParent(target: DnsName): DnsName {
  const host = hostOf(target);
  const at = host.indexOf('._domainkey.');
  return at < 0 ? target : nameOfHost(host.slice(at + '._domainkey.'.length));
}

/** SRV records whose target is the old host or moves with the site (RFC 2782, RFC 6186). */
function services(hazards: Hazards): Finding[] {
  return hazards.facts.zones.flatMap(({ zone }) =>
    zone.records
      .filter(({ type }) => type === 'SRV')
      .flatMap(({ name, data }) => {
        const target = targetOf('SRV', data)!;
        const bond = hazards.bond(target);
        if (bond === undefined) return [];
        return about(
          name,
          bond === 'moves' ? 'stop' : 'warn',
          'dns-service-old-host',
          bond === 'moves'
            ? `The service ${hostOf(name)} is at ${hostOf(target)}, which moves to the new host`
            : `The service ${hostOf(name)} is at the old host (${hostOf(target)})`,
          bond === 'moves'
            ? 'Give the service a name of its own with the old address before the cutover'
            : 'Move the service, or keep it there, before the old host ends',
        );
      }),
  );
}
