import type { DnsName } from '../records/name.js';
import type { DnsRecord } from '../records/record.js';
import type { SetChange } from '../zone/set-change.js';
import type { Zone } from '../zone/zone.js';

/** One authoritative server of a zone, as it answered. */
export interface ServerSeen {
  /** Its name, or its address where nobody has named it. */
  readonly name: string;
  /** IP address, with the port if it is not 53. */
  readonly address: string;
  readonly serial: number | undefined;
  /** The longest TTL among the records of the site's names, in seconds; undefined where it was not asked. */
  readonly longestTtl: number | undefined;
  /** Why it gave no answer. */
  readonly trouble: string | undefined;
}

/** What the zone above knows of a zone. */
export interface ParentView {
  readonly servers: readonly DnsName[];
  /** Whether it has a DS record, by which resolvers ask for signatures. */
  readonly ds: boolean;
  /** Seconds for which resolvers keep the delegation. */
  readonly ttl: number;
}

/** A zone as it was read, and from where. */
export interface ZoneView {
  readonly zone: Zone;
  readonly source: 'zone file' | 'transfer' | 'questions';
  /** The file, or the server that gave it. */
  readonly place: string;
  /** Every record is known, not only those that were asked for. */
  readonly isWhole: boolean;
  readonly servers: readonly ServerSeen[];
  readonly parent: ParentView | undefined;
}

/** How this program may change a zone. */
export type ChangeMethod = 'update' | 'zone file' | 'by hand';

/** A target of address records: an address, or a host whose name leads to the new server. */
export type Target =
  | { readonly address: string }
  | { readonly host: DnsName; readonly addresses: readonly string[] };

/** Everything that a plan is made of. Times are milliseconds since 1970. */
export interface CutoverFacts {
  readonly hosts: { readonly old: DnsName; readonly new: DnsName };
  /** Other names that the sheet wants to move. */
  readonly names: readonly DnsName[];
  readonly old: readonly string[];
  readonly new: readonly Target[];
  readonly zones: readonly ZoneView[];
  /** The zones at the name servers to which they are to move; empty where they stay. */
  readonly movedTo: readonly ZoneView[];
  readonly method: ChangeMethod;
  readonly when: number;
  /** Whether a person has named the time. */
  readonly isDated: boolean;
  readonly now: number;
  readonly timeZone: string;
  /** Seconds for which records are kept while the change is under way. */
  readonly shortTtl: number;
  /** Milliseconds that the last pass will take, by those before it. */
  readonly lastPass: number;
  /** Whether the new address is an HTTPS one, which needs a certificate before visitors come. */
  readonly isSecure: boolean;
  /** How this program could get the certificate; undefined where the sheet names no authority. */
  readonly proof: 'dns' | 'http' | undefined;
  /** The domain by which CAA records name the certificate authority; undefined where nobody has said. */
  readonly authority: string | undefined;
  /** Records that hosts outside of the zones have: addresses of mail servers, texts of included SPF policies. */
  readonly outside: ReadonlyMap<string, readonly DnsRecord[]>;
  /** CAA records in force for names outside of the zones, or above their apex. */
  readonly caaAbove: readonly DnsRecord[];
}

/** What becomes of a name of the site. */
export type NameFate =
  | 'moves'
  | 'is created'
  | 'follows another name'
  | 'leads there already'
  | 'stays'
  | 'is not in a zone that was read';

/** A name of the site, and what the plan does about it. */
export interface PlannedName {
  readonly name: DnsName;
  readonly fate: NameFate;
  /** One word for why it is in the plan. */
  readonly as: 'old address' | 'new address' | 'site' | 'twin' | 'listed';
  readonly view: ZoneView | undefined;
  /** The records that answer for it now: its own, or those of a wildcard or an alias. */
  readonly present: readonly DnsRecord[];
  /** The changes of its record sets. */
  readonly changes: readonly SetChange[];
}

/** The changes of one zone in their order. */
export interface ZoneChanges {
  readonly view: ZoneView;
  /** Shorter TTLs, and names that do not exist yet. */
  readonly prepare: readonly SetChange[];
  /** The switch itself, from what `prepare` leaves. */
  readonly switch: readonly SetChange[];
  /** Usual TTLs again. */
  readonly raise: readonly SetChange[];
}
