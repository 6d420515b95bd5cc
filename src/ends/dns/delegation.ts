import type { ParentView } from '../../core/dns/cutover/facts.js';
import type { Message } from '../../core/dns/message/message.js';
import { targetOf } from '../../core/dns/records/data.js';
import { addressToText } from '../../core/dns/records/ip.js';
import {
  type DnsName,
  hostOf,
  isWithin,
  keyOf,
  parentOf,
  rootName,
  sameName,
} from '../../core/dns/records/name.js';
import type { DnsRecord } from '../../core/dns/records/record.js';
import { askFor, type Resolver } from './resolver.js';
import { type DnsServer, serverText } from './server.js';

/** An authoritative server, by its name. */
export interface NamedServer {
  readonly name: string;
  readonly server: DnsServer;
}

/** A zone as the tree of names leads to it. */
export interface Delegation {
  readonly apex: DnsName;
  readonly servers: readonly NamedServer[];
  readonly parent: ParentView | undefined;
}

/**
 * Finds the zone of a name, and its servers, at servers that are known to have it.
 * @throws an Error where none of them has a zone of it
 */
export async function zoneAt(
  servers: readonly DnsServer[],
  name: DnsName,
  signal: AbortSignal,
): Promise<DnsName> {
  let last: unknown = new Error(`no server is named for ${hostOf(name)}`);
  for (const server of servers) {
    try {
      const { answers, authorities } = await askFor(server, name, 'SOA', signal);
      const soa = [...answers, ...authorities].find(
        ({ type, name: of }) => type === 'SOA' && isWithin(name, of),
      );
      if (soa) return soa.name;
      last = new Error(`the DNS server ${serverText(server)} has no zone of ${hostOf(name)}`);
    } catch (error) {
      signal.throwIfAborted();
      last = error;
    }
  }
  throw last;
}

/**
 * Finds the zone of a name by following the delegation: a resolver leads to the zone above, whose own servers then say
 * who has the zone (RFC 1034, section 4.3.2).
 * @throws an Error where nobody answers
 */
export async function followDelegation(
  resolver: Resolver,
  name: DnsName,
  signal: AbortSignal,
): Promise<Delegation> {
  const apex = await apexOf(resolver, name, signal);
  const above = apex === rootName ? undefined : await apexOf(resolver, parentOf(apex), signal);
  const parent = above === undefined ? [] : await serversOf(resolver, above, signal);
  for (const { server } of parent) {
    try {
      const [referral, ds] = await Promise.all([
        askFor(server, apex, 'NS', signal),
        askFor(server, apex, 'DS', signal),
      ]);
      const own = [...referral.authorities, ...referral.answers].filter(isServerOf(apex));
      if (own.length === 0) continue;
      const names = own.map(({ data }) => targetOf('NS', data)!);
      return {
        apex,
        servers: await addressed(resolver, names, referral, signal),
        parent: {
          servers: names,
          ds: ds.answers.some(({ type, name: of }) => type === 'DS' && sameName(of, apex)),
          ttl: Math.max(...own.map(({ ttl }) => ttl)),
        },
      };
    } catch {
      // Another server of the zone above may answer.
      signal.throwIfAborted();
    }
  }
  return { apex, servers: await serversOf(resolver, apex, signal), parent: undefined };
}

function isServerOf(apex: DnsName): (record: DnsRecord) => boolean {
  return ({ type, name }) => type === 'NS' && sameName(name, apex);
}

/** The zone that a name is in: the owner of the SOA that answers for it (RFC 2308, section 2). */
async function apexOf(resolver: Resolver, name: DnsName, signal: AbortSignal): Promise<DnsName> {
  const { answers, authorities } = await resolver.ask(name, 'SOA', signal);
  const soa = [...answers, ...authorities].find(({ type, name: of }) => type === 'SOA' && isWithin(name, of));
  if (!soa) throw new Error(`no zone of ${hostOf(name)} is found`);
  return soa.name;
}

/** The servers of a zone as a resolver knows them. */
async function serversOf(resolver: Resolver, apex: DnsName, signal: AbortSignal): Promise<NamedServer[]> {
  const answer = await resolver.ask(apex, 'NS', signal);
  const names = answer.answers.filter(isServerOf(apex)).map(({ data }) => targetOf('NS', data)!);
  return addressed(resolver, names, answer, signal);
}

/** Servers with their addresses: those that came along, otherwise as a resolver has them. */
async function addressed(
  resolver: Resolver,
  names: readonly DnsName[],
  { additionals }: Message,
  signal: AbortSignal,
): Promise<NamedServer[]> {
  const all = await Promise.all(
    names.map(async name => {
      const glue = additionals.filter(one => keyOf(one.name) === keyOf(name));
      const known = glue.filter(({ type }) => type === 'A' || type === 'AAAA');
      const records =
        known.length > 0 ? known : (await resolver.ask(name, 'A', signal).catch(() => undefined))?.answers;
      return (records ?? [])
        .filter(({ type }) => type === 'A' || type === 'AAAA')
        .map(({ data }) => ({ name: hostOf(name), server: { host: addressToText(data), port: 53 } }));
    }),
  );
  return all.flat();
}
