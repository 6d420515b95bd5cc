import { type Address, addressPath } from '../../../address/address.js';
import { asBytes, type ByteString, type Edit } from '../../../bytes.js';

/** A fact of a configuration, with the place it is in. A secret is never shown, only used. */
export interface Fact {
  /** Undefined where only running the code would show. */
  readonly value: ByteString | undefined;
  readonly line: number;
  /** Below the site's folder; `../` for one folder above it. */
  readonly file: string;
  /** The expression as it is, and its bytes in the file. */
  readonly source: string;
  readonly start: number;
  readonly end: number;
  /** Only running the code would show, and not just where the site's folder is. */
  readonly computed: boolean;
  /** A `.env` file gives it, unless the server's own environment says otherwise. */
  readonly fromEnvironment: boolean;
}

/** What a configuration can say once. */
type SingleFact =
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
  /** Paths of the address under which pages, and uploaded files, are served. */
  | 'articlePath'
  | 'uploadAddress'
  | 'cookieDomain'
  | 'cookiePath'
  | 'logPath'
  | 'temporaryPath'
  | 'privatePath'
  | 'uploadPath'
  | 'cachePath'
  /** Whether it is a network of sites, and the host and path of its first. */
  | 'network'
  | 'networkHost'
  | 'networkPath'
  | 'debug'
  | 'errorDetails'
  | 'offline'
  | 'robots'
  /** What the site calls itself, where its configuration says so. */
  | 'title'
  | 'tagline';

/** What it can say several times: patterns of hosts that it answers to, paths of cookies, and keys that cookies are signed with. */
type ListedFact = `trustedHosts.${number}` | `cookiePath.${number}` | `secretKey.${number}`;

export type FactName = SingleFact | 'trustedHosts' | ListedFact;

/** Whether a fact may be shown, or put into a finding, a result or a difference. */
export function isSecret(fact: FactName): boolean {
  return fact === 'password' || fact.startsWith('secretKey');
}

/** An expression of a configuration as it may be shown: what gives a secret is not. */
export function shownSource(fact: FactName, source: string): string {
  return isSecret(fact) ? 'an expression that is not shown' : source.slice(0, 60);
}

/** What a site's own configuration says. */
export type Facts = Partial<Record<FactName, Fact>>;

/** New values for facts of a configuration. */
export type Wanted = Partial<Record<FactName, ByteString>>;

/** The files of a configuration: the main one, and those that were looked for by the name of another. */
export interface ConfigurationFiles {
  /** Its path, below the site's folder. */
  readonly main: string;
  /** By path; undefined for one that is not there. */
  readonly sources: ReadonlyMap<string, ByteString | undefined>;
}

/** What was read of a configuration. */
export interface Reading {
  readonly facts: Facts;
  /** Files that must be looked for before all is known. */
  readonly wanted: readonly string[];
  /** Files that it includes and that were not read: an address, an absolute path, one that is not there. */
  readonly unread: readonly { readonly file: string; readonly line: number; readonly source: string }[];
}

/** A configuration of one file. */
export function oneFile(main: string, source: ByteString): ConfigurationFiles {
  return { main, sources: new Map([[main, source]]) };
}

/** A change that cannot be made safely by this tool; the person makes it. */
export interface ByHand {
  readonly fact: FactName;
  readonly file: string;
  /** From 1; 0 where it is not there at all. */
  readonly line: number;
  readonly source: string;
  /** The line to write, as text; a secret is left out of it. */
  readonly put: string;
}

/** Edits of a configuration, by file, and what is left for the person. */
export interface Edited {
  readonly edits: ReadonlyMap<string, Edit[]>;
  readonly byHand: readonly ByHand[];
}

/** What a move changes for a site, as far as its configuration can say it. */
export interface SiteMove {
  readonly oldAddress: Address;
  readonly newAddress: Address;
  /** A value of the configuration with its old addresses and server paths rewritten. */
  rewritten(value: ByteString): ByteString;
}

/** Facts that hold addresses or paths, each rewritten where an old one is in it. */
export function movedFacts(facts: Facts, names: readonly FactName[], move: SiteMove): Wanted {
  const wanted: Wanted = {};
  for (const name of names) {
    const value = facts[name]?.value;
    const next = value === undefined ? undefined : move.rewritten(value);
    if (next !== undefined && next !== value) wanted[name] = next;
  }
  return wanted;
}

/** A path of an address in the configuration, as it is to be; undefined where it stays or is none of the old site's. */
export function movedPath(
  value: ByteString | undefined,
  { oldAddress, newAddress }: SiteMove,
): ByteString | undefined {
  const [before, after] = [addressPath(oldAddress), addressPath(newAddress)];
  if (value === undefined || !value.startsWith('/') || value.startsWith('//') || before === after)
    return undefined;
  const rest = value.startsWith(before) ? value.slice(before.length) : undefined;
  return rest === undefined || !/^(?:\/|$)/.test(rest) ? undefined : asBytes(after + rest || '/');
}

/** The first group of a pattern in some source. */
export function said(source: ByteString, pattern: RegExp): string | undefined {
  return pattern.exec(source)?.[1];
}

/** A cookie domain with the old host in it, as it is to be; undefined where it stays. */
export function movedCookieDomain(
  facts: Facts,
  { oldAddress, newAddress }: SiteMove,
): ByteString | undefined {
  const cookie = facts.cookieDomain?.value;
  const bare = cookie?.replace(/^\./, '').toLowerCase();
  if (!bare || (oldAddress.host !== bare && !oldAddress.host.endsWith(`.${bare}`))) return undefined;
  const next = asBytes(cookie!.startsWith('.') ? `.${newAddress.host}` : newAddress.host);
  return next === cookie ? undefined : next;
}
