import type { Address } from '../../address/address.js';
import type { ByteString } from '../../bytes.js';
import type { FrontFile } from '../configuration/front-file.js';
import type {
  ConfigurationFiles,
  Edited,
  FactName,
  Facts,
  Reading,
  SiteMove,
  Wanted,
} from '../configuration/source/facts.js';
import type { Condition, DataEdit, DataWish } from '../data/data-edits.js';

/** Which version a site's program is, and what it says that it needs. */
export interface SiteVersion {
  readonly version?: string | undefined;
  /** The least version of the language, and of the database server. */
  readonly php?: string | undefined;
  readonly mysql?: string | undefined;
}

/** What every site of a family has, as paths with a leading slash below its address. */
interface FamilyWeb {
  /** The search, up to the words. */
  readonly search?: string;
  /** Where programs ask. */
  readonly interface?: string;
  readonly feeds: readonly string[];
  readonly sitemaps: readonly string[];
  /** The front page of the administration. */
  readonly administration?: string;
  /** What programs and the site's keepers ask for, by how it begins. */
  readonly notRead?: readonly string[];
}

/** What a sheet may ask to be said or held back at the new site, by its name there. */
export type SiteWish = 'title' | 'tagline' | 'administrator' | 'switch-off';

/** A kind of content management system: where its things are and what they mean. */
export interface Family {
  readonly name: string;
  /** Paths of its configuration, the likeliest first; `*` means one folder's name. */
  readonly configurations: readonly string[];
  /** Which of several configurations that are there serves an address; the first, where this is left out. */
  configurationFor?(there: readonly string[], address: Address): string;
  /** Paths of files that look like a configuration of such a site, whatever they are called. */
  readonly configurationLike: RegExp | undefined;
  /** Files by which it is recognised: all of one of these lists are there. */
  readonly marks: readonly (readonly string[])[];
  /** @returns undefined when the main file cannot be parsed */
  readConfiguration(files: ConfigurationFiles): Reading | undefined;
  /** Only the bytes of the values concerned change. */
  editConfiguration(files: ConfigurationFiles, wanted: Wanted): Edited;
  /** The facts that name a database server at a host and port. */
  databaseServer(host: string, port: number | undefined, facts: Facts): Wanted;
  /** The facts with addresses and paths in them, as they are to be; those that stay are left out. */
  moved(facts: Facts, move: SiteMove): Wanted;
  /** Facts that show errors to visitors, and what they are when they do not. */
  readonly quiet: readonly { readonly fact: FactName; readonly off: ByteString }[];
  /** The fact that asks search engines to stay away, if the configuration has one. */
  readonly robots: { readonly hide: ByteString; readonly show: ByteString } | undefined;
  /** How it shows its maintenance page: by a file, or by a fact. */
  readonly maintenance:
    | { readonly file: string; readonly content: ByteString }
    | { readonly fact: FactName; readonly on: ByteString; readonly off: ByteString }
    | undefined;
  /** Files by which visitors come in: where one is there, such a site may be in use. */
  readonly entryPoints: readonly string[];
  /** The file that visitors reach where its program is in a folder of its own. */
  readonly front?: FrontFile;
  /** Files that say which version it is. */
  readonly versionFiles: readonly string[];
  versionIn(source: (path: string) => ByteString): SiteVersion;
  /** Extensions of the language without which it does not run. */
  readonly extensions: readonly string[];
  /** gitignore patterns of what the site creates again. */
  readonly without: readonly string[];
  /** Folders in which the site writes files that may hold its address. */
  readonly generated: readonly string[];
  /** gitignore patterns of files in which the configuration of a site without a database names its address. */
  readonly addressed?: readonly string[];
  /** A path that only an address of a site of this family is followed by. */
  readonly landmark: RegExp | undefined;
  /** The path of the login page, below the address. */
  readonly loginPage: string | undefined;
  /** Where visitors and administrators find what every such site has. */
  readonly web?: FamilyWeb;
  /** Tables, without prefix, that every installation has. */
  readonly coreTables: readonly string[];
  /** What is corrected in the tables at the new end, once they are loaded. */
  dataEdits?(wish: DataWish): DataEdit[];
  /** Which of the sheet's wishes for it can be carried out, in its tables or its configuration. */
  readonly sets: readonly SiteWish[];
  /** A table, without prefix, that only a network of sites has. */
  readonly networkTable?: string;
  /** The row that holds the address of a site, by which one sees whose tables they are. */
  readonly addressRow?: { readonly table: string; readonly column: string; readonly where: Condition };
  /** The row that asks search engines to stay away, and its value then. */
  readonly searchEngineRow?: NonNullable<Family['addressRow']> & { readonly hidden: string };
  /** The row that names the extensions in use. */
  readonly extensionsRow?: NonNullable<Family['addressRow']>;
  /** What a page that is not the site's own says, seen in its HTML. */
  troubleIn(html: string): 'installation page' | 'database error' | undefined;
}
