/** What one field of a record's data is, in the order of the wire. */
export type Field =
  | 'u8'
  | 'u16'
  | 'u32'
  /** Seconds, which a zone file may write with units. */
  | 'seconds'
  | 'ipv4'
  | 'ipv6'
  | 'name'
  /** A character string: a length and its bytes. */
  | 'text'
  /** Character strings up to the end, one at least. */
  | 'texts'
  /** A short word with its length. */
  | 'tag'
  /** All that is left, written in quotes. */
  | 'quoted'
  | 'hex'
  | 'base64'
  /** A length and so many bytes, in base 32 with the extended hex alphabet; or in hex, `-` for none. */
  | 'base32'
  | 'salt'
  /** The type of a record. */
  | 'type'
  /** A bitmap of types (RFC 4034, section 4.1.2). */
  | 'types'
  /** A number of an algorithm of DNSSEC, or its name. */
  | 'algorithm'
  /** A kind of certificate, as a number or a word (RFC 4398, section 2.1). */
  | 'certificate'
  /** A time as YYYYMMDDHHmmSS, in UTC. */
  | 'date'
  /** RFC 1876. */
  | 'location'
  /** The parameters of a service (RFC 9460). */
  | 'parameters';

/** The types of records that this program reads and writes in words, with their numbers and fields. */
const known: Readonly<Record<string, readonly [number, ...Field[]]>> = {
  // RFC 1035 and RFC 3596
  A: [1, 'ipv4'],
  NS: [2, 'name'],
  CNAME: [5, 'name'],
  SOA: [6, 'name', 'name', 'u32', 'seconds', 'seconds', 'seconds', 'seconds'],
  PTR: [12, 'name'],
  HINFO: [13, 'text', 'text'],
  MX: [15, 'u16', 'name'],
  TXT: [16, 'texts'],
  AAAA: [28, 'ipv6'],
  // RFC 1183, RFC 1876, RFC 2782, RFC 3403, RFC 2230, RFC 6672, RFC 7208, RFC 7553
  RP: [17, 'name', 'name'],
  AFSDB: [18, 'u16', 'name'],
  LOC: [29, 'location'],
  SRV: [33, 'u16', 'u16', 'u16', 'name'],
  NAPTR: [35, 'u16', 'u16', 'text', 'text', 'text', 'name'],
  KX: [36, 'u16', 'name'],
  DNAME: [39, 'name'],
  SPF: [99, 'texts'],
  URI: [256, 'u16', 'u16', 'quoted'],
  CAA: [257, 'u8', 'tag', 'quoted'],
  // RFC 4398, RFC 4255, RFC 6698, RFC 7929, RFC 8162, RFC 4701
  CERT: [37, 'certificate', 'u16', 'algorithm', 'base64'],
  SSHFP: [44, 'u8', 'u8', 'hex'],
  DHCID: [49, 'base64'],
  TLSA: [52, 'u8', 'u8', 'u8', 'hex'],
  SMIMEA: [53, 'u8', 'u8', 'u8', 'hex'],
  OPENPGPKEY: [61, 'base64'],
  // RFC 4034, RFC 5155, RFC 7344, RFC 7477, RFC 8976
  DS: [43, 'u16', 'algorithm', 'u8', 'hex'],
  RRSIG: [46, 'type', 'algorithm', 'u8', 'u32', 'date', 'date', 'u16', 'name', 'base64'],
  NSEC: [47, 'name', 'types'],
  DNSKEY: [48, 'u16', 'u8', 'algorithm', 'base64'],
  NSEC3: [50, 'u8', 'u8', 'u16', 'salt', 'base32', 'types'],
  NSEC3PARAM: [51, 'u8', 'u8', 'u16', 'salt'],
  CDS: [59, 'u16', 'algorithm', 'u8', 'hex'],
  CDNSKEY: [60, 'u16', 'u8', 'algorithm', 'base64'],
  CSYNC: [62, 'u32', 'u16', 'types'],
  ZONEMD: [63, 'u32', 'u8', 'u8', 'hex'],
  // RFC 9460
  SVCB: [64, 'u16', 'name', 'parameters'],
  HTTPS: [65, 'u16', 'name', 'parameters'],
};

/** Types of questions and of what goes with a message; no zone holds them. */
const others: Readonly<Record<string, number>> = { OPT: 41, TSIG: 250, IXFR: 251, AXFR: 252, ANY: 255 };

const numbers = new Map<string, number>([
  ...Object.entries(known).map(([type, [number]]) => [type, number] as const),
  ...Object.entries(others),
]);
const words = new Map([...numbers].map(([type, number]) => [number, type]));

/** The number of a type, as of `TYPE65280` too (RFC 3597, section 5); undefined for what is none. */
export function typeNumber(type: string): number | undefined {
  const named = numbers.get(type.toUpperCase());
  if (named !== undefined) return named;
  const number = Number(/^type(\d{1,5})$/i.exec(type)?.[1] ?? Number.NaN);
  return number <= 0xffff ? number : undefined;
}

/** The word for a type. */
export function typeWord(number: number): string {
  return words.get(number) ?? `TYPE${number}`;
}

/** The fields of a type's data; undefined where its data is written in hex only (RFC 3597). */
export function fieldsOf(type: string): readonly Field[] | undefined {
  const [, ...fields] = known[type] ?? [];
  return fields.length > 0 ? (fields as Field[]) : undefined;
}

/** Types of which the data is names and numbers alone: equal in any letter case, and compressed by servers (RFC 3597, section 4). */
const ofNames: ReadonlySet<string> = new Set([
  'NS',
  'CNAME',
  'SOA',
  'PTR',
  'MX',
  'RP',
  'AFSDB',
  'SRV',
  'KX',
  'DNAME',
]);

export function isOfNames(type: string): boolean {
  return ofNames.has(type);
}

/** Types that belong to the signatures of a zone, which its server makes itself (RFC 4034, RFC 5155, RFC 8976). */
const ofSigning: ReadonlySet<string> = new Set([
  'RRSIG',
  'NSEC',
  'NSEC3',
  'NSEC3PARAM',
  'DNSKEY',
  'CDS',
  'CDNSKEY',
  'ZONEMD',
  // What BIND keeps about its signing.
  'TYPE65534',
]);

export function isOfSigning(type: string): boolean {
  return ofSigning.has(type);
}

/** The algorithms of DNSSEC by name (RFC 4034, appendix A.1 and the registry that grew from it). */
export const algorithms: ReadonlyMap<string, number> = new Map([
  ['RSAMD5', 1],
  ['DH', 2],
  ['DSA', 3],
  ['RSASHA1', 5],
  ['NSEC3DSA', 6],
  ['NSEC3RSASHA1', 7],
  ['RSASHA256', 8],
  ['RSASHA512', 10],
  ['ECDSAP256SHA256', 13],
  ['ECDSAP384SHA384', 14],
  ['ED25519', 15],
  ['ED448', 16],
]);

/** The kinds of certificates by name (RFC 4398, section 2.1). */
export const certificateKinds: ReadonlyMap<string, number> = new Map([
  ['PKIX', 1],
  ['SPKI', 2],
  ['PGP', 3],
  ['IPKIX', 4],
  ['ISPKI', 5],
  ['IPGP', 6],
  ['ACPKIX', 7],
  ['IACPKIX', 8],
  ['URI', 253],
  ['OID', 254],
]);
