import type { ByteString, Edit } from '../bytes.js';
import type { PrefixedData } from '../rewrite/prefix.js';
import { plain } from './plain.js';
import { wordpress } from './wordpress.js';

/** Facts of a configuration file, each with the line that it stands in. A secret is never shown, only used. */
export interface Fact {
  /** Undefined where only running the code would tell. */
  readonly value: ByteString | undefined;
  readonly line: number;
  readonly source: string;
}

export type FactName = 'name' | 'user' | 'password' | 'host' | 'charset' | 'prefix' | 'home' | 'siteAddress';

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

/** A kind of content management system: where its things are and what they mean. */
export interface Family {
  readonly name: 'wordpress' | 'joomla' | 'drupal' | 'plain';
  /** Paths of its configuration, the likeliest first. */
  readonly configurations: readonly string[];
  /** Whether a tree with these paths at hand is of this family. */
  recognise(has: (path: string) => boolean): boolean;
  /** @returns undefined when the file cannot be parsed */
  readConfiguration(source: ByteString): Facts | undefined;
  /** Only the bytes of the values concerned change. */
  editConfiguration(source: ByteString, wanted: Wanted): { edits: Edit[]; byHand: ByHand[] };
  /** The host that a configuration names for a server at a host and port. */
  databaseHost(host: string, port: number | undefined): string;
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

/** The families, the most particular first; `plain` takes what no other does. */
const families: readonly Family[] = [wordpress, plain];

/** Recognises the family of a tree by its files. */
export function recogniseFamily(has: (path: string) => boolean): Family {
  return families.find(family => family.recognise(has)) ?? plain;
}

/** The family of that name; `plain` for a name that this version does not know. */
export function familyNamed(name: string): Family {
  return families.find(family => family.name === name) ?? plain;
}
