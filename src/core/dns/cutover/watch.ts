/** Who was asked: a server that has the zone, or a resolver that keeps what it was told. */
type AskedKind = 'server' | 'resolver';

/** What somebody answered about one name. */
export interface WatchedAnswer {
  readonly kind: AskedKind;
  /** Name or address of who was asked. */
  readonly who: string;
  readonly host: string;
  /** Addresses, in the order in which they came. */
  readonly addresses: readonly string[];
  /** Seconds for which they are still kept; undefined where nothing came. */
  readonly ttl: number | undefined;
  /** Why nothing came. */
  readonly trouble: string | undefined;
}

/** Whose marker is shown at an address. */
export type SeenMarker = 'old' | 'new' | 'neither' | 'no answer' | 'not asked';

/** Which host shows its marker at an address. */
export interface WatchedAddress {
  readonly host: string;
  readonly address: string;
  readonly http: SeenMarker;
  readonly https: SeenMarker;
}

/** What is wanted of a name in the end. */
export interface WatchedName {
  readonly host: string;
  /** Addresses that are right. */
  readonly wanted: readonly string[];
}

/** How an answer agrees with what is wanted. */
export type Agreement = 'new' | 'old' | 'mixed' | 'elsewhere' | 'none';

/** @param old addresses of the old host */
export function agreementOf(
  { addresses }: Pick<WatchedAnswer, 'addresses'>,
  wanted: readonly string[],
  old: readonly string[],
): Agreement {
  if (addresses.length === 0) return 'none';
  if (addresses.every(one => wanted.includes(one))) return 'new';
  if (addresses.some(one => wanted.includes(one))) return 'mixed';
  return addresses.some(one => old.includes(one)) ? 'old' : 'elsewhere';
}

/** How many of those that answered agree, and for how long the others will keep what they have at the most. */
export function sumOf(
  answers: readonly WatchedAnswer[],
  names: readonly WatchedName[],
  old: readonly string[],
): { readonly agreed: number; readonly of: number; readonly silent: number; readonly longest: number } {
  const answered = answers.filter(({ trouble }) => trouble === undefined);
  const wanted = (host: string) => names.find(one => one.host === host)?.wanted ?? [];
  const isRight = (one: WatchedAnswer) => agreementOf(one, wanted(one.host), old) === 'new';
  const others = answered.filter(one => !isRight(one));
  return {
    agreed: answered.length - others.length,
    of: answered.length,
    silent: answers.length - answered.length,
    longest: Math.max(0, ...others.map(({ ttl }) => ttl ?? 0)),
  };
}
