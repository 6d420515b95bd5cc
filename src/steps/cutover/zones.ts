import { resolve } from 'node:path';
import pMap from 'p-map';
import { isReservedName } from '../../core/address/reserved.js';
import type { ChangeMethod, ServerSeen, ZoneView } from '../../core/dns/cutover/facts.js';
import { webTwinOf } from '../../core/dns/cutover/names.js';
import type { TsigKey } from '../../core/dns/message/tsig.js';
import { targetOf } from '../../core/dns/records/data.js';
import { addressToText } from '../../core/dns/records/ip.js';
import {
  type DnsName,
  hostOf,
  isWithin,
  nameOfHost,
  parseName,
  sameName,
} from '../../core/dns/records/name.js';
import { serialOf } from '../../core/dns/zone/serial.js';
import { Zone } from '../../core/dns/zone/zone.js';
import { EndError, UsageError } from '../../core/errors.js';
import { askZone } from '../../ends/dns/ask-zone.js';
import { type Delegation, followDelegation, type NamedServer, zoneAt } from '../../ends/dns/delegation.js';
import { askFor, Resolver } from '../../ends/dns/resolver.js';
import { type DnsServer, serverOf, serverText } from '../../ends/dns/server.js';
import { transferZone } from '../../ends/dns/transfer.js';
import { openZoneFile } from '../../ends/dns/zone-file.js';
import type { Move } from '../move/open.js';
import type { StepRun } from '../move/step.js';

/** A zone of the move, and where it is changed. */
export interface OpenZone {
  readonly view: ZoneView;
  /** The zone file, as a path of this machine. */
  readonly file: string | undefined;
  /** The server that takes updates. */
  readonly server: DnsServer | undefined;
  /** The servers that are asked for it. */
  readonly servers: readonly NamedServer[];
}

/** Those names of the site that a plan is about: both addresses, their twins, and what the sheet adds. */
export function siteNames({ oldAddress, newAddress, sheet }: Move): DnsName[] {
  const hosts = [oldAddress.host, newAddress.host].map(nameOfHost);
  const twins = hosts.flatMap(host => webTwinOf(host) ?? []);
  const names = [...hosts, ...twins, ...(sheet.dns?.names ?? []).map(nameOfHost)];
  return [...new Set(names)];
}

/** The key of the sheet, by which servers know who asks. @throws UsageError where its secret is no Base64 */
export function keyOf({ sheet }: Pick<Move, 'sheet'>): TsigKey | undefined {
  const key = sheet.dns?.key;
  if (!key) return undefined;
  const secret = Buffer.from(key.secret, 'base64');
  if (secret.length === 0 || secret.toString('base64').replace(/=+$/, '') !== key.secret.replace(/=+$/, '')) {
    throw new UsageError({
      doing: 'Reading dns.key',
      cause: 'its secret is not Base64',
      remedy: 'Copy it from the server’s key file as it is there',
    });
  }
  return { name: parseName(key.name), algorithm: key.algorithm, secret };
}

/** How the zones are changed, by what the sheet names. */
export function methodOf({ sheet }: Pick<Move, 'sheet'>): ChangeMethod {
  if (sheet.dns?.zone) return 'zone file';
  return sheet.dns?.server ? 'update' : 'by hand';
}

/** Asks who may answer for the move: the resolvers of the sheet, or this machine's own. */
export function resolverOf({ sheet }: Pick<Move, 'sheet'>): Resolver {
  return new Resolver(sheet.dns?.resolvers ?? []);
}

/**
 * Reads the zones of all names of the site: from files, by transfer, or by asking their servers.
 * @throws EndError where a server refuses the key or gives nothing, DamageError where a file cannot be read
 */
export async function openZones(run: StepRun): Promise<OpenZone[]> {
  const { move } = run;
  const files = await Promise.all(
    (move.sheet.dns?.zone ?? []).map(name => openFile(run, resolve(move.folder.folder, name))),
  );
  const zones = [...files];
  for (const name of siteNames(move)) {
    if (zones.some(({ view }) => isWithin(name, view.zone.apex))) continue;
    const found = await openZoneOf(run, name);
    if (found && !zones.some(({ view }) => sameName(view.zone.apex, found.view.zone.apex))) zones.push(found);
  }
  return zones;
}

async function openFile(run: StepRun, file: string): Promise<OpenZone> {
  const { apex, records } = await openZoneFile(file);
  const zone = new Zone(apex, records);
  const { servers, parent } = await serversOf(run, zone);
  const view: ZoneView = {
    zone,
    source: 'zone file',
    place: file,
    isWhole: true,
    servers: await lookAtServers(run, zone, servers),
    parent,
  };
  return { view, file, server: undefined, servers };
}

/** Undefined where nobody can be asked for a name. */
async function openZoneOf(run: StepRun, name: DnsName): Promise<OpenZone | undefined> {
  const { sheet } = run.move;
  const { server, servers = [] } = sheet.dns ?? {};
  const given = [...(server ? [serverOf(server)] : []), ...servers.map(serverOf)];
  if (given.length > 0) {
    const apex = await zoneAt(given, name, run.signal).catch((error: Error) => {
      run.signal.throwIfAborted();
      // Another zone of the move may be elsewhere.
      if (canResolve(run.move, name) || methodOf(run.move) !== 'update') return undefined;
      throw unreachable(name, error);
    });
    if (apex) return openAt(run, apex, given);
  }
  if (!canResolve(run.move, name)) return undefined;
  try {
    const delegation = await followDelegation(resolverOf(run.move), name, run.signal);
    return await openAt(run, delegation.apex, [], delegation);
  } catch (error) {
    run.signal.throwIfAborted();
    // What a person changes can be planned without its present records; the plan says so.
    if (methodOf(run.move) !== 'update') return undefined;
    if (error instanceof EndError) throw error;
    throw unreachable(name, error as Error);
  }
}

/** Names that are set aside for examples are in no DNS but one that the sheet names. */
export function canResolve({ sheet }: Move, name: DnsName): boolean {
  return !isReservedName(hostOf(name)) || (sheet.dns?.resolvers ?? []).length > 0;
}

function unreachable(name: DnsName, error: Error): EndError {
  return new EndError({
    doing: `Looking for the zone of ${hostOf(name)}`,
    cause: error.message,
    remedy: 'Name its server in dns.server or dns.servers, or its file in dns.zone',
  });
}

async function openAt(
  run: StepRun,
  apex: DnsName,
  given: readonly DnsServer[],
  delegation?: Delegation,
): Promise<OpenZone> {
  const { sheet } = run.move;
  const main = sheet.dns?.server === undefined ? undefined : serverOf(sheet.dns.server);
  const isMain = main !== undefined && given.length > 0;
  const asked = isMain ? main : (given[0] ?? delegation?.servers[0]?.server);
  if (!asked) throw unreachable(apex, new Error('its name servers have no addresses'));
  const { records, isWhole } = await recordsOf(run, apex, asked, isMain);
  const zone = new Zone(apex, records);
  const known = delegation ?? (await serversOf(run, zone));
  const servers = known.servers.length > 0 ? known.servers : [asked].map(named);
  const view: ZoneView = {
    zone,
    source: isWhole ? 'transfer' : 'questions',
    place: `dns://${serverText(asked)}`,
    isWhole,
    servers: await lookAtServers(run, zone, servers),
    parent: known.parent,
  };
  return { view, file: undefined, server: isMain ? main : undefined, servers };
}

function named(server: DnsServer): NamedServer {
  return { name: serverText(server), server };
}

/** The whole zone where the server gives it, otherwise what it answers. */
async function recordsOf(run: StepRun, apex: DnsName, server: DnsServer, mayTransfer: boolean) {
  const key = keyOf(run.move);
  if (mayTransfer) {
    try {
      return { records: await transferZone(server, apex, key, run.signal), isWhole: true };
    } catch (error) {
      run.signal.throwIfAborted();
      if (key) {
        throw new EndError({
          doing: `Transferring the zone ${hostOf(apex)} from ${serverText(server)}`,
          cause: (error as Error).message,
          remedy:
            'Check dns.key, the clocks of both sides, and that the server allows this key to transfer the zone',
          kind: 'credentials',
        });
      }
    }
  }
  const names = siteNames(run.move).filter(name => isWithin(name, apex));
  return { records: await askZone(server, apex, names, run.signal), isWhole: false };
}

/** The servers of a zone: those of the sheet alone where it lists them, otherwise those that the delegation names too. */
async function serversOf(run: StepRun, zone: Zone): Promise<Pick<Delegation, 'servers' | 'parent'>> {
  const { move } = run;
  const { server, servers = [] } = move.sheet.dns ?? {};
  const given = [...(server === undefined ? [] : [server]), ...servers].map(one => named(serverOf(one)));
  const once = (all: readonly NamedServer[]) => [
    ...new Map(all.map(one => [serverText(one.server), one])).values(),
  ];
  if (!canResolve(move, zone.apex)) return { servers: once(given), parent: undefined };
  try {
    const found = await followDelegation(resolverOf(move), zone.apex, run.signal);
    const more = servers.length > 0 ? [] : found.servers;
    return { servers: once([...given, ...more]), parent: found.parent };
  } catch {
    run.signal.throwIfAborted();
    return { servers: once(given), parent: undefined };
  }
}

/** Asks every server of a zone for its serial, and for how long it lets others keep the site's records. */
async function lookAtServers(
  run: StepRun,
  zone: Zone,
  servers: readonly NamedServer[],
): Promise<ServerSeen[]> {
  const names = siteNames(run.move).filter(name => isWithin(name, zone.apex));
  return pMap(
    servers,
    async ({ name, server }): Promise<ServerSeen> => {
      const none = { name, address: serverText(server), serial: undefined, longestTtl: undefined };
      try {
        const { answers, flags } = await askFor(server, zone.apex, 'SOA', run.signal);
        const soa = answers.find(({ type }) => type === 'SOA');
        if (!soa || !flags.authoritative) return { ...none, trouble: 'it does not have the zone' };
        const records = await Promise.all(
          names.flatMap(one => ['A', 'AAAA'].map(type => askFor(server, one, type, run.signal))),
        );
        const ttls = records.flatMap(answer => answer.answers.map(({ ttl }) => ttl));
        const longestTtl = ttls.length > 0 ? Math.max(...ttls) : undefined;
        return { ...none, serial: serialOf(soa.data), longestTtl, trouble: undefined };
      } catch (error) {
        run.signal.throwIfAborted();
        return { ...none, trouble: (error as Error).message };
      }
    },
    { concurrency: 8, signal: run.signal },
  );
}

/** The zones at the name servers to which they are to move. */
export async function zonesMovedTo(run: StepRun, zones: readonly OpenZone[]): Promise<ZoneView[]> {
  const { move } = run;
  const servers = (move.sheet.dns?.['new-servers'] ?? []).map(serverOf);
  const [first] = servers;
  if (!first) return [];
  return pMap(zones, async ({ view }): Promise<ZoneView> => {
    const { apex } = view.zone;
    const names = [
      ...siteNames(move).filter(name => isWithin(name, apex)),
      ...view.zone.records.map(({ name }) => name),
    ];
    const records =
      (await transferZone(first, apex, keyOf(move), run.signal).catch(() => undefined)) ??
      (await askZone(first, apex, [...new Set(names)], run.signal));
    const zone = new Zone(apex, records);
    return {
      zone,
      source: 'questions',
      place: `dns://${serverText(first)}`,
      isWhole: false,
      servers: await lookAtServers(run, zone, servers.map(named)),
      parent: undefined,
    };
  });
}

/** Addresses of a host that a sheet names in place of an address. */
export async function addressesOf(run: StepRun, host: DnsName): Promise<string[]> {
  const resolver = resolverOf(run.move);
  const all = await Promise.all(['A', 'AAAA'].map(type => resolver.records(hostOf(host), type, run.signal)));
  return all
    .flat()
    .flatMap(({ type, data }) => (type === 'A' || type === 'AAAA' ? [addressToText(data)] : []));
}

/** Names outside of the zones on which mail and services depend, as far as a resolver can be asked. */
export function namesOutside(zones: readonly OpenZone[]): DnsName[] {
  const names = zones.flatMap(({ view }) =>
    view.zone.records.flatMap(({ type, data }) =>
      ['MX', 'SRV', 'CNAME'].includes(type) ? [targetOf(type, data)!] : [],
    ),
  );
  return [...new Set(names)].filter(name => !zones.some(({ view }) => isWithin(name, view.zone.apex)));
}

/** The zone that a name is in. @throws UsageError where it is in none of them */
export function zoneWith(zones: readonly OpenZone[], name: DnsName): OpenZone {
  const within = zones.filter(({ view }) => isWithin(name, view.zone.apex));
  const [closest] = within.sort((a, b) => b.view.zone.apex.length - a.view.zone.apex.length);
  if (closest) return closest;
  throw new UsageError({
    doing: `Looking for the zone of ${hostOf(name)}`,
    cause: 'it is in none of the zones that were read',
    remedy: 'Name its zone in dns (zone, server, servers or resolvers)',
  });
}
