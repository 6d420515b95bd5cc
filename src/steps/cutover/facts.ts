import pMap from 'p-map';
import { textOf } from '../../core/bytes.js';
import type { CutoverFacts, Target } from '../../core/dns/cutover/facts.js';
import { textOfTxt } from '../../core/dns/records/data.js';
import { ipAddress } from '../../core/dns/records/ip.js';
import { type DnsName, hostOf, nameOfHost, parentOf, rootName } from '../../core/dns/records/name.js';
import { type DnsRecord, setKeyOf } from '../../core/dns/records/record.js';
import { ledgerOf } from '../move/ledger.js';
import type { StepRun } from '../move/step.js';
import {
  addressesOf,
  canResolve,
  methodOf,
  namesOutside,
  type OpenZone,
  resolverOf,
  siteNames,
  zonesMovedTo,
} from './zones.js';

/** A cutover whose time nobody has named is planned so far ahead, in milliseconds. */
const usualNotice = 2 * 86_400_000;

/** Gathers everything that a plan of the cutover is made of. */
export async function gatherFacts(run: StepRun, zones: readonly OpenZone[]): Promise<CutoverFacts> {
  const { move } = run;
  const dns = move.sheet.dns!;
  const records = dns['address-records']!;
  const now = Date.now();
  const [targets, outside, movedTo] = await Promise.all([
    pMap(records.new, one => targetFor(run, one)),
    askOutside(run, zones),
    zonesMovedTo(run, zones),
  ]);
  return {
    hosts: { old: nameOfHost(move.oldAddress.host), new: nameOfHost(move.newAddress.host) },
    names: dns.names.map(nameOfHost),
    old: (records.old ?? []).map(one => ipAddress(one)!.text),
    new: targets,
    zones: zones.map(({ view }) => view),
    movedTo,
    method: methodOf(move),
    when: dns.when === undefined ? nextNight(now + usualNotice) : Date.parse(dns.when),
    isDated: dns.when !== undefined,
    now,
    timeZone: Intl.DateTimeFormat().resolvedOptions().timeZone,
    shortTtl: dns['short-ttl'],
    lastPass: await lastPassOf(run),
    isSecure: move.newAddress.scheme === 'https',
    proof: dns.certificate?.directory === undefined ? undefined : dns.certificate.method,
    authority: dns.certificate?.authority,
    outside,
    caaAbove: await caaAbove(run, zones),
  };
}

/** The next full hour at which nobody is up, in UTC: three in the morning. */
function nextNight(from: number): number {
  const day = 86_400_000;
  return Math.ceil((from - 3 * 3_600_000) / day) * day + 3 * 3_600_000;
}

async function targetFor(run: StepRun, written: string): Promise<Target> {
  const ip = ipAddress(written);
  if (ip) return { address: ip.text };
  const host = nameOfHost(written);
  return { host, addresses: await addressesOf(run, host) };
}

/** How long the last pass took that carried everything over, in milliseconds. */
async function lastPassOf({ move }: StepRun): Promise<number> {
  const ledger = await ledgerOf(move);
  const steps = ['pack', 'rewrite', 'deliver'] as const;
  return steps.reduce((sum, step) => sum + (ledger.lastOf(step).record?.seconds ?? 0), 0) * 1000;
}

/** Records of names outside of the zones: where mail and services lead, and policies that are included. */
async function askOutside(
  run: StepRun,
  zones: readonly OpenZone[],
): Promise<ReadonlyMap<string, readonly DnsRecord[]>> {
  const known = new Map<string, readonly DnsRecord[]>();
  const ask = async (name: DnsName, type: string) => {
    const key = setKeyOf({ name, type });
    if (known.has(key) || !canResolve(run.move, name)) return;
    known.set(key, []);
    try {
      const answers = await resolverOf(run.move).records(hostOf(name), type, run.signal);
      known.set(
        key,
        answers.filter(one => one.type === type),
      );
      for (const alias of answers.filter(one => one.type === 'CNAME' && type !== 'CNAME'))
        known.set(setKeyOf(alias), [alias]);
    } catch {
      // What cannot be asked is not known.
      run.signal.throwIfAborted();
    }
  };
  await pMap(
    namesOutside(zones),
    async name => void (await Promise.all(['A', 'AAAA'].map(type => ask(name, type)))),
    {
      concurrency: 8,
    },
  );
  let wanted = zones.flatMap(({ view }) => includedIn(view.zone.set(view.zone.apex, 'TXT')));
  for (let depth = 0; depth < mostIncludes && wanted.length > 0; depth++) {
    await pMap(wanted, name => ask(name, 'TXT'), { concurrency: 8 });
    wanted = wanted.flatMap(name => includedIn(known.get(setKeyOf({ name, type: 'TXT' })) ?? []));
  }
  return known;
}

const mostIncludes = 10;

/** The policies that an SPF policy includes. */
function includedIn(records: readonly DnsRecord[]): DnsName[] {
  const texts = records.map(({ data }) => textOf(textOfTxt(data))).filter(text => /^v=spf1 /i.test(text));
  return texts.flatMap(text =>
    [...text.matchAll(/(?:include:|redirect=)([\w.-]+)/gi)].flatMap(([, host]) => {
      try {
        return [nameOfHost(host!)];
      } catch {
        return [];
      }
    }),
  );
}

/** CAA records of the names above the zones, which count where the zones have none (RFC 8659, section 3). */
async function caaAbove(run: StepRun, zones: readonly OpenZone[]): Promise<DnsRecord[]> {
  const names = new Set<DnsName>();
  const apexes = zones.map(({ view }) => view.zone.apex);
  for (const start of [...apexes, ...siteNames(run.move)])
    for (let at = start; at !== rootName; at = parentOf(at)) names.add(at);
  const asked = [...names].filter(name => canResolve(run.move, name) && !apexes.includes(name));
  const answers = await pMap(
    asked,
    async name => {
      try {
        const found = await resolverOf(run.move).records(hostOf(name), 'CAA', run.signal);
        return found.filter(({ type }) => type === 'CAA').map(record => ({ ...record, name }));
      } catch {
        run.signal.throwIfAborted();
        return [];
      }
    },
    { concurrency: 8 },
  );
  return answers.flat();
}
