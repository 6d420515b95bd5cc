import type { LookupAddress } from 'node:dns';
import { lookup } from 'node:dns/promises';
import { isIP } from 'node:net';
import { parseAddress } from '../../../core/address/address.js';
import { isReservedName } from '../../../core/address/reserved.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { readPage } from '../../../core/pages/read/page.js';
import { WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from './both-sites.js';

/** Asks a site over IPv4 and over IPv6, where its name has both. */
export async function familyFindings(
  { signal, move }: Pick<StepRun, 'signal' | 'move'>,
  { new: next, address }: Pick<BothSites, 'new' | 'address'>,
  addressesOf = systemAddresses,
): Promise<Finding[]> {
  const reach = move.sheet.new.reach === undefined ? next.address : parseAddress(move.sheet.new.reach);
  const host = reach.host.replace(/^\[|\]$/g, '');
  if (isIP(host)) return [];
  const addresses = await addressesOf(host).catch(() => []);
  const of = (family: number) => addresses.find(one => one.family === family)?.address;
  const [four, six] = [of(4), of(6)];
  if (four === undefined || six === undefined) return [];
  const look = async (ip: string) => {
    const site = new WebSite(next.address, { ...reach, host: ip });
    try {
      const answer = await site.get('/', signal, { isOneHop: true }).catch(() => undefined);
      signal.throwIfAborted();
      return answer && `${answer.status}, “${(await readPage(answer.html)).title}”`;
    } finally {
      await site.close();
    }
  };
  const [byFour, bySix] = await Promise.all([look(four), look(six)]);
  if (byFour === bySix) return [];
  return [
    finding({
      level: 'warn',
      code: 'address-families-differ',
      place: address,
      what: `${host} answers differently over IPv4 (${four}: ${byFour ?? 'no answer'}) and IPv6 (${six}: ${bySix ?? 'no answer'})`,
      remedy: 'Correct the A or AAAA record, or the server’s configuration for one of them',
    }),
  ];
}

/** What this machine knows of a name; nobody is asked for one that is set aside. */
async function systemAddresses(host: string): Promise<readonly LookupAddress[]> {
  return isReservedName(host) && host !== 'localhost' ? [] : lookup(host, { all: true });
}
