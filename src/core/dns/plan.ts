import { getDomain } from 'tldts';

/** One thing to do in the DNS, and when. */
interface PlanStep {
  readonly when: string;
  readonly what: string;
  readonly why: string;
}

/** The plan of a cutover. */
export interface CutoverPlan {
  readonly steps: readonly PlanStep[];
  /** Zone lines (RFC 1035, section 5) to change: as they are, and as they are to be. */
  readonly records: readonly {
    readonly host: string;
    readonly before: string | undefined;
    readonly after: string;
  }[];
  readonly keep: readonly string[];
  readonly back: readonly string[];
}

export interface CutoverInput {
  readonly oldHost: string;
  readonly newHost: string;
  readonly records: { readonly old: string; readonly new: string };
  /** Seconds, as the zone has it now; undefined where it is not known. */
  readonly ttl: number | undefined;
  readonly zone: string | undefined;
}

/** Seconds for which resolvers keep a record while the change is under way. */
const shortTtl = 300;

/**
 * Plans the change of address records. Under one host name its record changes; where the site gets a new name,
 * that name's record is created and the old one stays, so that it can continue sending visitors to the new.
 */
export function planCutover(input: CutoverInput): CutoverPlan {
  return input.oldHost === input.newHost ? planForSameName(input) : planForNewName(input);
}

/** What no cutover of a web site changes. */
function untouched({ oldHost, newHost }: CutoverInput): string[] {
  return [
    `MX records, and the hosts they name: mail for ${mailDomains(oldHost, newHost)} stays as it is`,
    'TXT records (SPF, DKIM, DMARC, proofs of ownership), unless the new host sends mail',
    'NS and SOA: the zone stays where it is',
  ];
}

/** A line of a zone file. */
function zoneLine(host: string, seconds: number, address: string): string {
  return `${host}. ${seconds} IN ${recordType(address)} ${address}`;
}

function raiseTtl({ newHost, ttl }: CutoverInput): PlanStep {
  return {
    when: 'After two quiet days',
    what: `Raise the TTL of ${newHost} to ${duration(ttl ?? 3600)}`,
    why: 'a short TTL costs a look-up for every visit',
  };
}

function planForSameName(input: CutoverInput): CutoverPlan {
  const { newHost, records, ttl, zone } = input;
  const known = ttl === undefined ? 'its present TTL' : duration(ttl);
  const inZone = zone === undefined ? '' : ` (in ${zone})`;
  return {
    records: [
      {
        host: newHost,
        before: zoneLine(newHost, ttl ?? shortTtl, records.old),
        after: zoneLine(newHost, shortTtl, records.new),
      },
    ],
    steps: [
      {
        when: `At least ${known} before the cutover`,
        what: `Lower the TTL of ${newHost}${inZone} to ${shortTtl} seconds; leave its address ${records.old}`,
        why: 'resolvers that asked before keep the old TTL until it runs out',
      },
      {
        when: 'Just before',
        what: 'Run pack, rewrite, deliver and check once more, and keep people from editing the old site',
        why: 'what is written to the old site after that is lost to the new one',
      },
      {
        when: 'At the cutover',
        what: `Change the ${recordType(records.new)} record of ${newHost} from ${records.old} to ${records.new}`,
        why: `visitors follow within ${duration(shortTtl)}`,
      },
      {
        when: `${duration(shortTtl * 2)} later`,
        what: 'Check the site under its name from outside, then get its certificate',
        why: 'a certificate authority looks where the name points',
      },
      raiseTtl(input),
    ],
    keep: untouched(input),
    back: [
      `Change the ${recordType(records.old)} record of ${newHost} back to ${records.old}; visitors return within ${duration(shortTtl)}`,
      'Leave the old site as it is until that can no longer be needed',
    ],
  };
}

function planForNewName(input: CutoverInput): CutoverPlan {
  const { oldHost, newHost, records } = input;
  return {
    records: [{ host: newHost, before: undefined, after: zoneLine(newHost, shortTtl, records.new) }],
    steps: [
      {
        when: 'Now',
        what: `Create the ${recordType(records.new)} record of ${newHost} with a TTL of ${shortTtl} seconds: ${records.new}`,
        why: 'nobody is sent there yet, so nothing can break; a certificate can be obtained',
      },
      {
        when: 'When check finds nothing to stop',
        what: `Put the redirects in place at ${oldHost} (${records.old})`,
        why: 'this is the moment at which visitors move',
      },
      {
        when: 'Then, and for at least a year',
        what: `Keep ${oldHost} pointing to a host that answers with the redirects`,
        why: 'links and search engines use the old name for a long time',
      },
      raiseTtl(input),
    ],
    keep: [
      `The ${recordType(records.old)} record of ${oldHost}: ${records.old} keeps answering for it`,
      ...untouched(input),
    ],
    back: [
      `Remove the redirects at ${oldHost}; visitors are back at once, except browsers that remember a permanent redirect`,
      `The record of ${newHost} may stay`,
    ],
  };
}

function recordType(address: string): 'A' | 'AAAA' {
  return address.includes(':') ? 'AAAA' : 'A';
}

/** The domains that mail is likely sent to: those under which the hosts were registered (https://publicsuffix.org). */
function mailDomains(oldHost: string, newHost: string): string {
  const domains = [oldHost, newHost].map(host => getDomain(host) ?? host);
  return [...new Set(domains)].join(' and ');
}

/** Seconds in words. */
function duration(seconds: number): string {
  const units: [number, string][] = [
    [86400, 'day'],
    [3600, 'hour'],
    [60, 'minute'],
  ];
  const [size, unit] = units.find(([each]) => seconds % each === 0 && seconds >= each) ?? [1, 'second'];
  const count = seconds / size;
  return `${count} ${unit}${count === 1 ? '' : 's'}`;
}
