import type { Finding, FindingCode, LevelOf } from '../../../findings/findings.js';
import { listed } from '../../../text/listed.js';
import { targetOf } from '../../records/data.js';
import { addressToText } from '../../records/ip.js';
import {
  type DnsName,
  hostOf,
  isWithin,
  keyOf,
  nameFromWire,
  parentOf,
  sameName,
} from '../../records/name.js';
import { parametersToText } from '../../records/parameters.js';
import type { PlannedName } from '../facts.js';
import { about, type Hazards } from './context.js';

/** What is at the names of the site, and what else leads to the old host. */
export function addressHazards(hazards: Hazards): Finding[] {
  return [
    ...hazards.names.flatMap(name => hazardsOfName(hazards, name)),
    ...neighbours(hazards),
    ...targets(hazards),
  ];
}

function hazardsOfName(hazards: Hazards, planned: PlannedName): Finding[] {
  const { name, fate, view, present, as, changes } = planned;
  if (fate === 'is not in a zone that was read') return [outsideFinding(hazards, name)];
  // A name that stays and is nowhere that was read is nobody's hazard.
  if (!view || view.zone.delegationAbove(name)) return [];
  const { zone } = view;
  const findings: Finding[] = [];
  const report = <Code extends FindingCode>(
    level: LevelOf<Code>,
    code: Code,
    what: string,
    remedy: string,
  ): void => {
    findings.push(about(name, level, code, what, remedy));
  };
  for (let at = parentOf(name); isWithin(at, zone.apex); at = parentOf(at)) {
    if (zone.set(at, 'DNAME').length > 0)
      report(
        'stop',
        'dns-dname',
        `A DNAME record at ${hostOf(at)} sends everything below it elsewhere, this name too`,
        'Change the record at the name to which it leads',
      );
    if (sameName(at, zone.apex)) break;
  }
  if (present.length === 0 && as === 'old address')
    report(
      'warn',
      'dns-no-address',
      'No record leads from the old name to a host',
      'Check old.address and the zone',
    );
  const alias = present.find(({ type }) => type === 'CNAME');
  const wildcard = zone.wildcardFor(name);
  if (wildcard && changes.length > 0)
    report(
      'note',
      'dns-wildcard',
      `It has no record of its own: ${hostOf(wildcard)} answers for it, and will go on answering for other names`,
      'Nothing needs to be done; the plan gives it records of its own',
    );
  if (alias && !wildcard && changes.length > 0)
    report(
      'warn',
      'dns-alias',
      `It is an alias of ${hostOf(targetOf('CNAME', alias.data)!)}; the plan replaces the alias with addresses`,
      'Make sure that nobody counts on the alias, such as a service in front of the site',
    );
  const addresses = present.filter(({ type }) => type !== 'CNAME').map(({ data }) => addressToText(data));
  const isOfOld = as === 'old address' || as === 'site';
  const others = addresses.filter(text => !hazards.old.has(text) && !hazards.new.has(text));
  if (isOfOld && hazards.old.size > 0 && others.length > 0 && others.length === addresses.length)
    report(
      'warn',
      'dns-proxy',
      `It leads to ${listed(others)}, and not to the old host: a proxy or another host is in front`,
      'Change the address of the origin there, or correct dns.address-records.old',
    );
  else if (isOfOld && hazards.old.size > 0 && others.length > 0)
    report(
      'warn',
      'dns-address-differs',
      `It leads to ${listed(others)} as well as to the old host`,
      'Find out what answers there; the plan replaces these addresses too',
    );
  if (as === 'new address' && fate === 'moves' && (others.length > 0 || alias))
    report(
      'warn',
      'dns-new-name-in-use',
      `The new name leads to ${listed(others.length > 0 ? others : [hostOf(targetOf('CNAME', alias!.data)!)])} already`,
      'Make sure that nothing is served there that is still needed',
    );
  const six = changes.find(
    ({ type, before, after }) => type === 'AAAA' && before.length > 0 && after.length === 0,
  );
  if (six)
    report(
      'warn',
      'dns-ipv6-stays',
      `It has an AAAA record, and the sheet names no IPv6 address of the new host; the plan removes it`,
      'Add the new host’s IPv6 address to dns.address-records.new if it has one',
    );
  if (
    changes.length > 0 &&
    zone.set(name, 'HTTPS').some(({ data }) => hintsIn(data).some(text => hazards.old.has(text)))
  )
    report(
      'stop',
      'dns-hints',
      'Its HTTPS record names addresses of the old host, which browsers use before any other',
      'Remove ipv4hint and ipv6hint from it before the cutover',
    );
  return findings;
}

function outsideFinding(hazards: Hazards, name: DnsName): Finding {
  const cut = hazards.facts.zones
    .map(({ zone }) => zone.delegationAbove(name))
    .find(one => one !== undefined);
  if (cut) {
    const servers = listed(cut.servers.map(({ data }) => hostOf(targetOf('NS', data)!)));
    return about(
      name,
      'stop',
      'dns-other-zone',
      `It is in the zone ${hostOf(cut.at)}, which has name servers of its own (${servers})`,
      'Name the zone file or the server of its zone in dns',
    );
  }
  const { method } = hazards.facts;
  return about(
    name,
    method === 'by hand' ? 'warn' : 'stop',
    'dns-other-zone',
    method === 'by hand'
      ? 'Nobody can be asked for its zone, so its present records are not known'
      : 'It is in none of the zones that were read',
    `Name its zone in dns (zone, server, servers or resolvers)${method === 'by hand' ? `, or look at its records yourself: lower their TTL, and at the switch let it lead to ${listed([...hazards.new])} alone` : ''}`,
  );
}

/** The addresses that an HTTPS record offers beside the name (RFC 9460, section 7.3). */
function hintsIn(data: Buffer): string[] {
  const text = parametersToText(data.subarray(nameFromWire(data, 2).end));
  return [...text.matchAll(/ipv[46]hint=(\S+)/g)].flatMap(([, all]) => all!.split(','));
}

/** Other names with the address of the old host: they stay there, and end with it. */
function neighbours(hazards: Hazards): Finding[] {
  const planned = new Set(hazards.names.map(({ name }) => keyOf(name)));
  return hazards.facts.zones.flatMap(({ zone, isWhole }) => {
    const others = zone.records.filter(
      ({ name, type, data }) =>
        (type === 'A' || type === 'AAAA') &&
        hazards.old.has(addressToText(data)) &&
        !planned.has(keyOf(name)),
    );
    const following = zone.records.filter(({ name, type, data }) => {
      if (type !== 'CNAME' || planned.has(keyOf(name))) return false;
      return hazards.moves(targetOf('CNAME', data)!);
    });
    const names = (all: readonly { name: DnsName }[]) => [...new Set(all.map(({ name }) => hostOf(name)))];
    const findings: Finding[] = [];
    if (others.length > 0) {
      findings.push(
        about(
          zone.apex,
          'warn',
          'dns-other-names',
          `${names(others).length} other ${names(others).length === 1 ? 'name leads' : 'names lead'} to the old host and ${names(others).length === 1 ? 'stays' : 'stay'} there: ${listed(names(others), 8)}`,
          `Find out what each is for before the old host ends; those that are to move belong into dns.names${isWhole ? '' : '. Only names that were asked for are known'}`,
        ),
      );
    }
    if (following.length > 0) {
      findings.push(
        about(
          zone.apex,
          'warn',
          'dns-names-follow',
          `${names(following).length} other ${names(following).length === 1 ? 'name is an alias and moves' : 'names are aliases and move'} with the site: ${listed(names(following), 8)}`,
          'Give those that are to stay an address record of their own before the cutover',
        ),
      );
    }
    return findings;
  });
}

/** A new server that is known by its name only. */
function targets({ facts, names }: Hazards): Finding[] {
  return facts.new.flatMap(target => {
    if ('address' in target) return [];
    const direct = names.filter(({ changes }) =>
      changes.some(({ type, after }) => type !== 'CNAME' && after.length > 0),
    );
    return direct.map(({ name }) =>
      about(
        name,
        'warn',
        'dns-apex-alias',
        `It cannot be an alias of ${hostOf(target.host)}, since it has other records; the plan gives it the present addresses of that host (${listed(target.addresses)})`,
        'If your DNS provider has a record that follows another name at the apex, use that; otherwise change the addresses when the host changes its own',
      ),
    );
  });
}
