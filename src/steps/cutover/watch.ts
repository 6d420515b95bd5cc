import { lookup } from 'node:dns/promises';
import { setTimeout } from 'node:timers/promises';
import pMap from 'p-map';
import { parseAddress } from '../../core/address/address.js';
import {
  type SeenMarker,
  sumOf,
  type WatchedAddress,
  type WatchedAnswer,
  type WatchedName,
} from '../../core/dns/cutover/watch.js';
import { addressToText, isExampleAddress } from '../../core/dns/records/ip.js';
import { hostOf, nameOfHost } from '../../core/dns/records/name.js';
import { recordOfLine } from '../../core/dns/records/record.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { duration } from '../../core/text/duration.js';
import { askFor } from '../../ends/dns/resolver.js';
import { type DnsServer, serverText } from '../../ends/dns/server.js';
import { WebSite } from '../../ends/http/web-site.js';
import type { CutoverResult } from '../cutover.js';
import type { StepRun } from '../move/step.js';
import { markerAt, markerPath } from './markers.js';
import { plannedCutover } from './planned.js';
import { openZones, resolverOf } from './zones.js';

/** What a watch saw in one round. */
export interface WatchRound {
  /** ISO 8601. */
  readonly at: string;
  readonly names: readonly WatchedName[];
  readonly answers: readonly WatchedAnswer[];
  readonly addresses: readonly WatchedAddress[];
  readonly agreed: number;
  readonly of: number;
  readonly silent: number;
  /** For how many seconds somebody keeps the old address at the most. */
  readonly longest: number;
}

/** How a watch goes on. */
export interface WatchOptions {
  /** Seconds after which it ends, whoever agrees. */
  readonly limit: number;
  /** Seconds between two rounds. */
  readonly every: number;
  /** Only what a browser on this machine is led to. */
  readonly here: boolean;
  /** Gets every round as it is seen. */
  readonly show: (round: WatchRound) => void;
}

const atOnce = 8;

/** Asks servers and resolvers again and again until all lead to the new host, or the time is over. */
export async function watchCutover(
  run: StepRun,
  { limit, every, here, show }: WatchOptions,
): Promise<{ result: WatchRound; findings: Finding[] }> {
  const plan = await plannedCutover(run, 'Watching the cutover');
  const names = wantedNames(plan);
  const servers = here ? [] : await serversToAsk(run);
  const resolvers = resolverOf(run.move).servers.map(server => ({ name: serverText(server), server }));
  const end = Date.now() + limit * 1000;
  for (;;) {
    const round = await lookAround(run, names, servers, here ? 'this machine' : resolvers);
    show(round);
    if (round.agreed === round.of && round.of > 0) return { result: round, findings: [] };
    const left = end - Date.now();
    if (left <= 0) return { result: round, findings: [notFollowed(round)] };
    await setTimeout(Math.min(every * 1000, left), undefined, { signal: run.signal });
  }
}

function notFollowed({ agreed, of, silent, longest }: WatchRound): Finding {
  const who =
    of === 0 ? 'Nobody answered' : `${of - agreed} of ${of} answers do not lead to the new host alone`;
  return finding({
    level: 'stop',
    code: 'not-followed',
    place: 'the DNS',
    what: `${who}${silent > 0 && of > 0 ? `, and ${silent} were not given` : ''}${longest > 0 ? `; the longest is kept for ${duration(longest)} more` : ''}`,
    remedy: 'Watch again later, and leave the old host as it is until then',
  });
}

/** The names that visitors ask for, with the addresses that they are to lead to: those of the switch, or as they lead there now. */
function wantedNames(plan: CutoverResult): WatchedName[] {
  const changes = plan.changes.flatMap(({ phase, changes: sets }) =>
    phase === 'prepare' ? sets.filter(({ before }) => before.length === 0) : sets,
  );
  const switched = changes.flatMap(({ after }) => after.map(recordOfLine));
  const there = plan.names
    .filter(({ fate }) => fate === 'leads there already')
    .flatMap(({ present }) => present);
  const isAddress = ({ type }: { type: string }) => type === 'A' || type === 'AAAA';
  const wanted = [
    ...switched.filter(isAddress).map(({ data }) => addressToText(data)),
    ...there.filter(isAddress).map(({ value }) => value),
  ];
  return plan.names
    .filter(({ fate }) => fate !== 'stays' && fate !== 'is not in a zone that was read')
    .map(({ host }) => ({ host, wanted: [...new Set(wanted)] }));
}

async function serversToAsk(run: StepRun): Promise<{ name: string; server: DnsServer }[]> {
  const zones = await openZones(run);
  const all = zones.flatMap(({ servers }) => servers);
  return [...new Map(all.map(one => [serverText(one.server), one])).values()];
}

interface Asked {
  readonly name: string;
  readonly server: DnsServer;
}

async function lookAround(
  run: StepRun,
  names: readonly WatchedName[],
  servers: readonly Asked[],
  resolvers: readonly Asked[] | 'this machine',
): Promise<WatchRound> {
  const questions = names.flatMap(({ host }) => [
    ...servers.map(who => ({ kind: 'server' as const, who, host })),
    ...(resolvers === 'this machine'
      ? [{ kind: 'resolver' as const, who: resolvers, host }]
      : resolvers.map(who => ({ kind: 'resolver' as const, who, host }))),
  ]);
  const answers = await pMap(
    questions,
    ({ kind, who, host }) => (who === 'this machine' ? answerHere(host) : answerOf(run, kind, who, host)),
    {
      concurrency: atOnce,
      signal: run.signal,
    },
  );
  const old = run.move.sheet.dns?.['address-records']?.old ?? [];
  // A server that does not have a zone says nothing about its names.
  const said = answers.filter(
    one => one.kind === 'resolver' || one.addresses.length > 0 || one.trouble !== undefined,
  );
  return {
    at: new Date().toISOString(),
    names,
    answers: said,
    addresses: await lookAtAddresses(run, said),
    ...sumOf(said, names, old),
  };
}

/** What a browser on this machine would be led to: its resolver, and its own list of hosts. */
async function answerHere(host: string): Promise<WatchedAnswer> {
  const by = { kind: 'resolver' as const, who: 'this machine', host, ttl: undefined };
  try {
    const addresses = await lookup(host, { all: true });
    return { ...by, addresses: addresses.map(({ address }) => address), trouble: undefined };
  } catch (error) {
    return { ...by, addresses: [], trouble: (error as Error).message };
  }
}

async function answerOf(
  run: StepRun,
  kind: WatchedAnswer['kind'],
  { name, server }: Asked,
  host: string,
): Promise<WatchedAnswer> {
  const by = { kind, who: name, host };
  try {
    const replies = await Promise.all(
      ['A', 'AAAA'].map(type =>
        askFor(server, nameOfHost(host), type, run.signal, { recursive: kind === 'resolver' }),
      ),
    );
    const records = replies.flatMap(({ answers }) => answers);
    const own = records.filter(({ type }) => type === 'A' || type === 'AAAA');
    const ttl = records.length > 0 ? Math.min(...records.map(one => one.ttl)) : undefined;
    return { ...by, addresses: own.map(({ data }) => addressToText(data)), ttl, trouble: undefined };
  } catch (error) {
    run.signal.throwIfAborted();
    return { ...by, addresses: [], ttl: undefined, trouble: (error as Error).message };
  }
}

/** Asks every address that was seen for the marker of the host that answers there. */
async function lookAtAddresses(run: StepRun, answers: readonly WatchedAnswer[]): Promise<WatchedAddress[]> {
  const path = await markerPath(run.move);
  if (path === undefined) return [];
  const pairs = answers.flatMap(({ host, addresses }) => addresses.map(address => ({ host, address })));
  const once = [...new Map(pairs.map(one => [`${one.host} ${one.address}`, one])).values()];
  return pMap(
    once,
    async ({ host, address }) => ({
      host,
      address,
      http: await seenAt(run, host, address, 'http', path),
      https: await seenAt(run, host, address, 'https', path),
    }),
    { concurrency: atOnce, signal: run.signal },
  );
}

async function seenAt(
  run: StepRun,
  host: string,
  address: string,
  scheme: 'http' | 'https',
  path: string,
): Promise<SeenMarker> {
  const { sheet, oldAddress, newAddress } = run.move;
  const records = sheet.dns?.['address-records'];
  const end = records?.old?.includes(address) ? 'old' : records?.new.includes(address) ? 'new' : undefined;
  const own = end && (scheme === 'https' ? sheet[end]['reach-https'] : sheet[end].reach);
  const direct = `${scheme}://${address.includes(':') ? `[${address}]` : address}`;
  // Where the sheet says how a host is reached, it is that alone; an address of an example is nobody's.
  if (own === undefined && (isExampleAddress(address) || (end && sheet[end].reach !== undefined)))
    return 'not asked';
  const base = hostOf(nameOfHost(host)) === oldAddress.host ? oldAddress : { ...newAddress, host };
  const site = new WebSite({ ...base, scheme, port: undefined }, parseAddress(own ?? direct));
  try {
    return (await markerAt(site, path, run.signal)) ?? 'neither';
  } catch {
    run.signal.throwIfAborted();
    return 'no answer';
  } finally {
    await site.close();
  }
}
