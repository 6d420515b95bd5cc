import { type Finding, finding } from '../../findings/findings.js';
import { sizeText } from '../../text/sizes.js';
import { compareVersions, databaseVersion } from '../../versions.js';
import type { SiteVersion } from '../families/family.js';
import type { SeenLanguage } from './probe.js';

/** Something that the move cannot do without, and whether the new end has it. */
export interface Requirement {
  readonly what: string;
  readonly need: string;
  readonly found: string;
  /** `unknown` where nobody could be asked. */
  readonly met: 'yes' | 'no' | 'unknown';
}

/** What is known of both ends, as far as one of them needs it of the other. */
export interface KnownOfEnds {
  readonly family: string;
  readonly version: SiteVersion;
  readonly extensions: readonly string[];
  readonly take: { readonly bytes: number; readonly files: number; readonly links: number };
  /** The new folder; undefined where no files are moved. */
  readonly place:
    | {
        readonly path: string;
        readonly writable: boolean;
        readonly renames: boolean;
        readonly links: boolean;
        readonly freeBytes: number | undefined;
        readonly freeFiles: number | undefined;
      }
    | undefined;
  readonly web: { readonly asked: string; readonly server: string | undefined } | undefined;
  readonly language: SeenLanguage | undefined;
  /** Whether the load fits the dump to the server. */
  readonly fits: boolean;
  /** The new database's server; undefined where it was not asked. */
  readonly database:
    | {
        readonly version: string;
        readonly charsets: readonly string[];
        readonly collations: readonly string[];
        readonly packet: number;
        readonly missingRights: readonly string[];
      }
    | undefined;
  /** The dump that is to be loaded there. */
  readonly dump:
    | {
        readonly charsets: readonly string[];
        readonly collations: readonly string[];
        readonly longestStatement: number;
      }
    | undefined;
}

const leastMemory = 64_000_000;

/** The requirements as a list of yes and no, and what follows from those that are not met. */
export function requirementsOf(known: KnownOfEnds): { list: Requirement[]; findings: Finding[] } {
  const list: Requirement[] = [];
  const findings: Finding[] = [];
  const ask = (
    what: string,
    need: string,
    found: string | undefined,
    met: boolean | undefined,
    otherwise?: Finding,
  ) => {
    list.push({ what, need, found: found ?? '–', met: met === undefined ? 'unknown' : met ? 'yes' : 'no' });
    if (met === false && otherwise) findings.push(otherwise);
  };
  askPlace(known, ask);
  askLanguage(known, ask);
  askDatabase(known, ask);
  return { list, findings };
}

type KnownPlace = NonNullable<KnownOfEnds['place']>;

type Ask = (
  what: string,
  need: string,
  found: string | undefined,
  met: boolean | undefined,
  otherwise?: Finding,
) => void;

/** A number that must be large enough; undefined where it is not known. */
const reaches = (there: number | undefined, least: number) =>
  there === undefined ? undefined : there >= least;

function askPlace({ place, take }: KnownOfEnds, ask: Ask): void {
  if (!place) return;
  const { path, writable } = place;
  ask(
    'files can be written',
    'yes',
    writable ? 'yes' : 'no',
    writable,
    finding({
      level: 'stop',
      code: 'place-not-writable',
      place: path,
      what: 'Nothing can be written here, where the new site is to go',
      remedy: 'Give this account the right to write there, or name another place',
    }),
  );
  if (writable) askRights(place, take, ask);
  askRoom(place, take, ask);
}

function askRights({ path, renames, links }: KnownPlace, take: KnownOfEnds['take'], ask: Ask): void {
  ask(
    'a folder can be renamed',
    'yes',
    renames ? 'yes' : 'no',
    renames,
    finding({
      level: 'stop',
      code: 'place-not-renamable',
      place: path,
      what: 'What is written here cannot be renamed, so that a finished site cannot be put in place at once',
      remedy: 'Give this account the right to it, or name a folder on another file system',
    }),
  );
  if (take.links === 0) return;
  ask(
    'links can be created',
    `${take.links}`,
    links ? 'yes' : 'no',
    links,
    finding({
      level: 'warn',
      code: 'place-without-links',
      place: path,
      what: `The site has ${take.links} symbolic links, and none can be created here`,
      remedy: 'Make copies of what they lead to at the old site, or choose another host',
    }),
  );
}

function askRoom({ path, freeBytes, freeFiles }: KnownPlace, take: KnownOfEnds['take'], ask: Ask): void {
  ask(
    'room for its bytes',
    sizeText(take.bytes),
    freeBytes === undefined ? undefined : sizeText(freeBytes),
    reaches(freeBytes, take.bytes),
    finding({
      level: 'stop',
      code: 'room-too-small',
      place: path,
      what: `${sizeText(freeBytes ?? 0)} are free, the new site needs ${sizeText(take.bytes)}`,
      remedy: 'Make room, or name another place',
    }),
  );
  ask(
    'room for its files',
    `${take.files}`,
    freeFiles === undefined ? undefined : `${freeFiles}`,
    reaches(freeFiles, take.files),
    finding({
      level: 'stop',
      code: 'files-too-many',
      place: path,
      what: `Only ${freeFiles} more files can be created here (inodes), the new site has ${take.files}`,
      remedy: 'Leave caches out with take.files.without, or ask the host for more inodes',
    }),
  );
}

function askLanguage({ web, language, version, extensions, family }: KnownOfEnds, ask: Ask): void {
  if (web) ask('the web server answers', web.asked, web.server ?? 'yes', true);
  const place = web?.asked ?? 'new.reach';
  const php = version.php;
  if (php !== undefined)
    ask(
      'PHP',
      `${php} or later`,
      language?.version,
      language && compareVersions(language.version, php) >= 0,
      finding({
        level: 'stop',
        code: 'language-too-old',
        place,
        what: `The new host runs PHP ${language?.version}, the site needs ${php} or later`,
        remedy: 'Choose a later version in the host’s panel',
      }),
    );
  if (extensions.length > 0) {
    const missing = language && extensions.filter(one => !language.extensions.includes(one));
    ask(
      'PHP extensions',
      extensions.join(', '),
      missing && (missing.length > 0 ? `not ${missing.join(', ')}` : 'all'),
      missing && missing.length === 0,
      finding({
        level: 'stop',
        code: 'language-extension-missing',
        place,
        what: `A ${family} site needs PHP’s ${missing?.join(', ')}, which the new host lacks`,
        remedy: 'Switch it on in the host’s panel',
      }),
    );
  }
  if (!language) return;
  const { memory } = language;
  const enough = memory === undefined || memory >= leastMemory;
  ask(
    'memory for PHP',
    sizeText(leastMemory),
    memory === undefined ? 'no limit' : sizeText(memory),
    enough,
    finding({
      level: 'warn',
      code: 'language-memory-small',
      place,
      what: `PHP may use only ${sizeText(memory ?? 0)} of memory; pages with many extensions stay blank`,
      remedy: 'Raise memory_limit in the host’s panel',
    }),
  );
}

function askDatabase(known: KnownOfEnds, ask: Ask): void {
  askServer(known, ask);
  askDump(known, ask);
}

function askServer({ database, version }: KnownOfEnds, ask: Ask): void {
  const place = 'new.database';
  if (version.mysql !== undefined || database) {
    const seen = database && databaseVersion(database.version);
    // The number that a site asks for is MySQL's; MariaDB since 10 does what that does and more.
    const met = seen && (seen.kind === 'mariadb' || compareVersions(seen.version, version.mysql ?? '0') >= 0);
    ask(
      'database server',
      version.mysql === undefined ? 'any' : `${version.mysql} or later`,
      database?.version,
      met,
      finding({
        level: 'stop',
        code: 'database-too-old',
        place,
        what: `The new database server is ${seen?.version}, the site needs ${version.mysql} or later`,
        remedy: 'Ask the host for a later one',
      }),
    );
  }
  if (!database) return;
  const { missingRights } = database;
  ask(
    'rights in the database',
    'all',
    missingRights.length > 0 ? `not ${missingRights.join(', ')}` : 'all',
    missingRights.length === 0,
    finding({
      level: 'stop',
      code: 'database-rights-missing',
      place,
      what: `The database user may not ${missingRights.join(', ')}`,
      remedy: 'Give the user all rights on this database in the host’s panel (GRANT ALL PRIVILEGES)',
    }),
  );
}

function askDump({ database, dump, fits }: KnownOfEnds, ask: Ask): void {
  if (!dump) return;
  const place = 'new.database';
  const lacking = (wanted: readonly string[], there: readonly string[] | undefined) =>
    there && wanted.filter(one => !there.includes(one));
  for (const [what, wanted, missing] of [
    ['character sets', dump.charsets, lacking(dump.charsets, database?.charsets)],
    ['collations', dump.collations, lacking(dump.collations, database?.collations)],
  ] as const) {
    if (wanted.length === 0) continue;
    ask(
      what,
      wanted.join(', '),
      missing && (missing.length > 0 ? `not ${missing.join(', ')}` : 'all'),
      missing && missing.length === 0,
      finding({
        level: fits ? 'note' : 'stop',
        code: 'collation-missing',
        place,
        what: `The dump uses ${what} that the new server does not know: ${missing?.join(', ')}`,
        remedy: fits
          ? 'Nothing needs to be done: the load uses the nearest known ones instead, and reports them'
          : 'Dump with a compatible program, or replace them in the dump by ones that it knows',
      }),
    );
  }
  ask(
    'longest statement',
    sizeText(dump.longestStatement),
    database && sizeText(database.packet),
    database && (fits || database.packet > dump.longestStatement),
    finding({
      level: 'stop',
      code: 'packet-too-small',
      place,
      what: `The dump's longest statement is ${sizeText(dump.longestStatement)}, the new server accepts at most ${sizeText(database?.packet ?? 0)}`,
      remedy: 'Raise max_allowed_packet there, or dump with shorter statements',
    }),
  );
}
