import type { Finding } from '../../../findings/findings.js';
import { duration } from '../../../text/duration.js';
import { listed } from '../../../text/listed.js';
import { targetOf } from '../../records/data.js';
import { hostOf, keyOf, sameName } from '../../records/name.js';
import { recordLine } from '../../records/record.js';
import { isNewer } from '../../zone/serial.js';
import { compareZones, type SetDifference } from '../compare-zones.js';
import type { ZoneView } from '../facts.js';
import { latestPrepare } from '../timeline.js';
import { about, type Hazards } from './context.js';

/** What is wrong with the zones, their servers, their signatures, and the time that is left. */
export function zoneHazards(hazards: Hazards): Finding[] {
  const changing = new Set(hazards.changes.map(({ view }) => view));
  return [
    ...hazards.facts.zones.flatMap(view => [
      ...servers(view),
      ...(changing.has(view) ? [...signing(hazards, view), ...conflicts(view)] : []),
    ]),
    ...tooLate(hazards),
    ...newServers(hazards),
  ];
}

/** Whether the zone is signed: by its keys, or because the zone above says so. */
function isSigned({ zone, parent }: ZoneView): boolean {
  return parent?.ds === true || zone.set(zone.apex, 'DNSKEY').length > 0;
}

function servers({ zone, servers: all, parent }: ZoneView): Finding[] {
  const findings: Finding[] = [];
  for (const { name, trouble } of all) {
    if (trouble !== undefined)
      findings.push(
        about(
          zone.apex,
          'warn',
          'dns-server-silent',
          `The name server ${name} gives no answer for the zone (${trouble})`,
          'Repair it or take it out of the zone: whoever asks it sees neither the old host nor the new one',
        ),
      );
  }
  const serials = all.flatMap(({ serial }) => serial ?? []);
  const newest = serials.reduce((best, one) => (isNewer(one, best) ? one : best), serials[0] ?? 0);
  const behind = all.filter(({ serial }) => serial !== undefined && serial !== newest);
  if (behind.length > 0) {
    findings.push(
      about(
        zone.apex,
        'warn',
        'dns-server-behind',
        `${listed(behind.map(({ name, serial }) => `${name} (${serial})`))} ${behind.length === 1 ? 'has' : 'have'} an older zone than the others (${newest})`,
        'Find out why it does not copy the zone: it would send visitors to the old host for that long',
      ),
    );
  }
  const own = zone.serial;
  if (own !== undefined && serials.length > 0 && isNewer(newest, own)) {
    findings.push(
      about(
        zone.apex,
        'stop',
        'dns-serial-behind',
        `The zone that was read has the serial ${own}, and its servers have ${newest} already`,
        'Take the zone as the servers have it; an older serial would never be copied',
      ),
    );
  }
  const inZone = zone.set(zone.apex, 'NS').map(({ data }) => keyOf(targetOf('NS', data)!));
  const above = parent?.servers.map(keyOf) ?? [];
  const onlyAbove = above.filter(name => !inZone.includes(name));
  if (inZone.length > 0 && onlyAbove.length > 0) {
    findings.push(
      about(
        zone.apex,
        'warn',
        'dns-delegation-differs',
        `The registrar names ${listed(onlyAbove.map(hostOf))}, which the zone itself does not`,
        'Correct the name servers at the registrar or in the zone; some visitors ask servers that you do not change',
      ),
    );
  }
  return findings;
}

function signing({ facts }: Hazards, view: ZoneView): Finding[] {
  const { zone } = view;
  const findings: Finding[] = [];
  const ends = zone.records
    .filter(({ type }) => type === 'RRSIG')
    .map(({ data }) => data.readUInt32BE(8) * 1000);
  const end = Math.min(...ends);
  if (ends.length > 0 && end < facts.now) {
    findings.push(
      about(
        zone.apex,
        'stop',
        'dns-signatures-expired',
        `Signatures of the zone have expired on ${new Date(end).toISOString().slice(0, 10)}: resolvers that check them see no site at all`,
        'Have the zone signed anew',
      ),
    );
  } else if (ends.length > 0 && end < facts.when) {
    findings.push(
      about(
        zone.apex,
        'warn',
        'dns-signatures-end',
        `Signatures of the zone end on ${new Date(end).toISOString().slice(0, 10)}, before the cutover`,
        'Make sure that the server signs the zone anew by then',
      ),
    );
  }
  if (isSigned(view) && facts.method === 'zone file' && ends.length > 0) {
    findings.push(
      about(
        zone.apex,
        'stop',
        'dns-signed-file',
        'The zone file holds signatures, which a change makes wrong',
        'Change the file that is signed, and sign it anew; or use the dynamic updates of the server (dns.server)',
      ),
    );
  } else if (isSigned(view) && facts.method !== 'update') {
    findings.push(
      about(
        zone.apex,
        'note',
        'dns-signed',
        'The zone is signed (DNSSEC)',
        'Make sure that your DNS provider signs what you change; a changed record without a new signature is not believed',
      ),
    );
  }
  return findings;
}

/** An alias beside other records, which servers refuse or answer in different ways (RFC 1034, section 3.6.2). */
function conflicts({ zone }: ZoneView): Finding[] {
  return zone.records
    .filter(({ type }) => type === 'CNAME')
    .filter(alias =>
      zone.records.some(
        ({ name, type }) =>
          type !== 'CNAME' && !['RRSIG', 'NSEC', 'DNSKEY'].includes(type) && sameName(name, alias.name),
      ),
    )
    .map(({ name }) =>
      about(
        name,
        'stop',
        'dns-alias-conflict',
        'It is an alias and has other records too, which is not allowed',
        'Remove the alias or the other records',
      ),
    );
}

/** Whether the present TTLs run out before the time of the switch. */
function tooLate({ facts, changes }: Hazards): Finding[] {
  const latest = latestPrepare(facts, changes);
  if (latest === undefined || latest >= facts.now || !facts.isDated) return [];
  const late = duration((facts.now - latest) / 1000);
  const earliest = new Date(facts.when + facts.now - latest).toISOString().slice(0, 16);
  return [
    about(
      changes[0]!.view.zone.apex,
      'warn',
      'dns-ttl-too-late',
      `The TTLs should have been lowered ${late} ago: at the time of dns.when some resolvers still keep the old address`,
      `Lower them now and move dns.when to ${earliest}Z or later, or accept that some visitors follow later`,
    ),
  ];
}

/** Records that the new name servers do not have as the present ones do. */
function newServers({ facts }: Hazards): Finding[] {
  return facts.movedTo.flatMap(there => {
    const here = facts.zones.find(({ zone }) => sameName(zone.apex, there.zone.apex));
    if (!here) return [];
    const differences = compareZones(here.zone, there.zone);
    const of = (kind: SetDifference['kind']) => differences.filter(one => one.kind === kind);
    const { apex } = there.zone;
    const findings: Finding[] = [];
    for (const { here: set } of of('missing')) {
      findings.push(
        about(
          set[0]!.name,
          'stop',
          'dns-record-missing',
          `The new name servers do not have ${recordLine(set[0]!)}${set.length > 1 ? ` and ${set.length - 1} more of its kind` : ''}`,
          'Add it there before the registrar names the new servers',
        ),
      );
    }
    for (const { here: set, there: others } of of('different')) {
      findings.push(
        about(
          set[0]!.name,
          'warn',
          'dns-record-different',
          `The new name servers have ${listed(others.map(recordLine))} where the present ones have ${listed(set.map(recordLine))}`,
          'Make sure that this is wanted; before the switch both should answer the same',
        ),
      );
    }
    const extra = of('only there');
    if (extra.length > 0)
      findings.push(
        about(
          apex,
          'note',
          'dns-record-extra',
          `Only the new name servers have ${listed(extra.map(({ there: set }) => recordLine(set[0]!)))}`,
          'Remove what is not wanted',
        ),
      );
    if (here.parent?.ds) {
      findings.push(
        about(
          apex,
          'stop',
          'dns-ds-stays',
          'The zone is signed, and the registrar has a DS record of the present keys: with new name servers no resolver that checks signatures would believe them',
          `Remove the DS record and wait ${duration(here.parent.ttl)}, or take the keys along, before the name servers change`,
        ),
      );
    }
    return findings;
  });
}
