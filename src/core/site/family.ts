import type { Address } from '../address/address.js';
import type { ByteString, Edit } from '../bytes.js';
import type { PrefixedData } from '../rewrite/prefix.js';

/** A fact of a configuration file, with the line that it stands in. A secret is never shown, only used. */
export interface Fact {
  /** Undefined where only running the code would tell. */
  readonly value: ByteString | undefined;
  readonly line: number;
  readonly source: string;
}

/** What a configuration can say. The last seven are addresses and paths that a move changes. */
export type FactName =
  | 'name'
  | 'user'
  | 'password'
  | 'host'
  | 'port'
  | 'charset'
  | 'prefix'
  | 'home'
  | 'siteAddress'
  | 'server'
  | 'scriptPath'
  | 'cookieDomain'
  | 'logPath'
  | 'temporaryPath';

/** An expression of a configuration as it may be shown: what gives a password is not. */
export function shownSource(fact: FactName, source: string): string {
  return fact === 'password' ? 'an expression that is not shown' : source.slice(0, 60);
}

/** What a site's own configuration says. */
export type Facts = Partial<Record<FactName, Fact>>;

/** New values for facts of a configuration. */
export type Wanted = Partial<Record<FactName, ByteString>>;

/** A change that cannot be made safely by this tool; the person makes it. */
export interface ByHand {
  readonly fact: FactName;
  readonly line: number;
  readonly source: string;
}

/** What a move changes for a site, as far as its configuration can say it. */
export interface SiteMove {
  readonly oldAddress: Address;
  readonly newAddress: Address;
  /** A value of the configuration with its old addresses and server paths rewritten. */
  rewritten(value: ByteString): ByteString;
}

/** A kind of content management system: where its things are and what they mean. */
export interface Family {
  readonly name: 'wordpress' | 'joomla' | 'drupal' | 'mediawiki' | 'plain';
  /** Paths of its configuration, the likeliest first. */
  readonly configurations: readonly string[];
  /** Files by which it is recognised: all of one of these lists are there. */
  readonly marks: readonly (readonly string[])[];
  /** @returns undefined when the file cannot be parsed */
  readConfiguration(source: ByteString): Facts | undefined;
  /** Only the bytes of the values concerned change. */
  editConfiguration(source: ByteString, wanted: Wanted): { edits: Edit[]; byHand: ByHand[] };
  /** The facts that name a database server at a host and port. */
  databaseServer(host: string, port: number | undefined, facts: Facts): Wanted;
  /** The facts with addresses and paths in them, as they shall be; those that stay are left out. */
  moved(facts: Facts, move: SiteMove): Wanted;
  readonly prefixed: readonly PrefixedData[];
  /** `table.column` patterns of values that must stay as they are. */
  readonly leave: readonly string[];
  /** gitignore patterns of what the site makes anew by itself. */
  readonly without: readonly string[];
  /** Folders in which the site writes files that may hold its address. */
  readonly generated: readonly string[];
  /** A path that only an address of a site of this family is followed by. */
  readonly landmark: RegExp | undefined;
  /** The path of the login page, below the address. */
  readonly loginPage: string | undefined;
  /** Tables, without prefix, that every installation has. */
  readonly coreTables: readonly string[];
  /** What a page that is not the site's own says, seen in its HTML. */
  troubleIn(html: string): 'installation page' | 'database error' | undefined;
}

/** Facts that hold addresses or paths, each rewritten where an old one stands in it. */
export function movedFacts(facts: Facts, names: readonly FactName[], move: SiteMove): Wanted {
  const wanted: Wanted = {};
  for (const name of names) {
    const value = facts[name]?.value;
    const next = value === undefined ? undefined : move.rewritten(value);
    if (next !== undefined && next !== value) wanted[name] = next;
  }
  return wanted;
}
