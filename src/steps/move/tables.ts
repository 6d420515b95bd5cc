import { textOf } from '../../core/bytes.js';
import { isReserved } from '../../core/database/reserved-names.js';
import { type Finding, finding } from '../../core/findings/findings.js';
import { globPattern } from '../../core/rewrite/terms/globs.js';
import { families, familyNamed } from '../../core/site/families/families.js';
import {
  otherPrefixes,
  prefixesIn,
  type SiteInDatabase,
  takenOf,
} from '../../core/site/survey/site-tables.js';
import type { TakenOfTable } from '../../core/sql/row-count.js';
import { counted } from '../../core/text/numbers.js';
import type { CrateManifest } from '../../ends/move-folder/crate.js';
import type { Move } from './open.js';
import type { Site } from './read-site.js';

/** Whose tables are moved, as far as the old site's files say it. */
export function siteInDatabase(site: Pick<Site, 'family' | 'facts'> | undefined): SiteInDatabase | undefined {
  if (!site) return undefined;
  const { family, facts } = site;
  const value = facts?.prefix?.value;
  // A configuration that can be read and names none has none.
  const none = facts && !facts.prefix ? '' : undefined;
  return { family, prefix: value === undefined ? none : textOf(value) };
}

/** The site that a crate was taken from. */
function siteOfCrate({ from }: CrateManifest): SiteInDatabase {
  return { family: familyNamed(from.family), prefix: from.prefix };
}

/**
 * The site whose tables are taken: that of the files; where they do not say which prefix it has, or there are none, the only
 * one that the tables are of. Undefined where there are several.
 */
function siteAmong(site: SiteInDatabase | undefined, names: readonly string[]): SiteInDatabase | undefined {
  if (site && (site.prefix !== undefined || site.family.coreTables.length === 0)) return site;
  const all = sitesAmong(names).filter(({ family }) => !site || family.name === site.family.name);
  return all.length > 1 ? undefined : (all[0] ?? site ?? { family: familyNamed('plain'), prefix: undefined });
}

function sitesAmong(names: readonly string[]): SiteInDatabase[] {
  return families.flatMap(family => prefixesIn(names, family.coreTables).map(prefix => ({ family, prefix })));
}

/** What is taken of each table. @param names all that are there */
export function tablesTaken(
  { sheet }: Move,
  site: SiteInDatabase | undefined,
  names: readonly string[],
): (table: string) => TakenOfTable {
  const wish = sheet.take.database === false ? {} : sheet.take.database.tables;
  return takenOf(siteAmong(site, names) ?? { family: familyNamed('plain'), prefix: undefined }, names, wish);
}

/** The tables of a crate that are moved; what else it holds is skipped. */
export function tablesOfCrate(
  move: Move,
  manifest: CrateManifest,
): { own: CrateManifest['tables']; others: CrateManifest['tables'] } {
  const names = manifest.tables.map(({ table }) => textOf(table));
  const taken = tablesTaken(move, siteOfFiles(manifest), names);
  const isOwn = ({ table }: { table: string }) => taken(textOf(table)) !== 'nothing';
  return { own: manifest.tables.filter(isOwn), others: manifest.tables.filter(one => !isOwn(one)) };
}

/** Whether a table or view of a crate is moved, also one that it does not list; by its name as bytes. */
export function takesOfCrate(move: Move, manifest: CrateManifest): (table: string) => boolean {
  const names = manifest.tables.map(({ table }) => textOf(table));
  const taken = tablesTaken(move, siteOfFiles(manifest), names);
  return table => taken(textOf(table)) !== 'nothing';
}

/** The site of a crate, where it was taken with files by which it was recognised. */
function siteOfFiles(manifest: CrateManifest): SiteInDatabase | undefined {
  return manifest.counts.files > 0 || manifest.from.family !== 'plain' ? siteOfCrate(manifest) : undefined;
}

/** Why these tables are not those of the site. Every step that works on tables stops then. */
export function siteTablesFindings(
  move: Move,
  site: SiteInDatabase | undefined,
  names: readonly string[],
  place: string,
): Finding[] {
  const wish = move.sheet.take.database === false ? {} : move.sheet.take.database.tables;
  if (wish.only?.length) return [];
  const without = (wish.without ?? []).map(globPattern);
  const wanted = names.filter(name => !without.some(pattern => pattern.test(name)));
  const known = siteAmong(site, wanted);
  if (!known) return severalFindings(wanted, place);
  const { family, prefix } = known;
  if (!site) return [];
  if (family.coreTables.length === 0 || names.length === 0) return [];
  const prefixes = prefixesIn(wanted, family.coreTables);
  const shown = prefixes.map(one => `"${one}"`).join(' and ');
  if (prefixes.length === 0) {
    return [
      finding({
        level: 'stop',
        code: 'dump-not-of-site',
        place,
        what: `None of its ${counted(names.length, 'table')} are those of a ${family.name} site${prefix === undefined ? '' : ` with the prefix "${prefix}"`}`,
        remedy: 'Take the database that the configuration names, with all of its tables',
      }),
    ];
  }
  if (prefix !== undefined && !prefixes.includes(prefix)) {
    return [
      finding({
        level: 'stop',
        code: 'prefix-differs',
        place,
        what: `The tables begin with ${shown}, the configuration says "${prefix}"; the new site would show an installation page`,
        remedy: 'Take the database that belongs to this configuration, or correct its table prefix',
      }),
    ];
  }
  const shared = families.find(
    other => other.name !== family.name && prefixesIn(wanted, other.coreTables).includes(prefix ?? ''),
  );
  if (!shared) return [];
  return [
    finding({
      level: 'stop',
      code: 'prefix-shared',
      place,
      what: `Tables of a ${shared.name} site are under the same prefix "${prefix ?? ''}"; which table belongs to which site cannot be decided`,
      remedy:
        'Leave out those of the other site by name (take.database.tables.without), or give the two sites prefixes of their own',
    }),
  ];
}

const nobody: SiteInDatabase = { family: { name: 'plain', coreTables: [] }, prefix: undefined };

/** Where no files say which site is moved, only one may be there. */
function severalFindings(names: readonly string[], place: string): Finding[] {
  const all = sitesAmong(names);
  if (all.length < 2) return [];
  return [
    finding({
      level: 'stop',
      code: 'prefix-several',
      place,
      what: `Several sites are in it, with the prefixes ${all.map(({ prefix }) => `"${prefix}"`).join(' and ')}, and no configuration says which is moved`,
      remedy: `Give old.files, or name its tables: take.database.tables: { only: ["${all[0]?.prefix}*"] }`,
    }),
  ];
}

/** The same for the tables of a crate. */
export function crateTablesFindings(move: Move, manifest: CrateManifest): Finding[] {
  const names = manifest.tables.map(({ table }) => textOf(table));
  return siteTablesFindings(move, siteOfFiles(manifest), names, move.crate.folder);
}

/** What a crate holds besides the tables that are moved. */
export function othersOfCrate(move: Move, manifest: CrateManifest): Finding[] {
  const others = tablesOfCrate(move, manifest).others.map(({ table }) => textOf(table));
  const all = manifest.tables.map(({ table }) => textOf(table));
  return othersFinding(siteOfFiles(manifest), { all, others, place: move.crate.folder });
}

/** What is in a database, dump or crate besides the tables that are moved. */
export function othersFinding(
  site: SiteInDatabase | undefined,
  {
    all,
    others,
    place,
  }: { readonly all: readonly string[]; readonly others: readonly string[]; readonly place: string },
): Finding[] {
  const shown = others.filter(name => !isReserved(name));
  if (shown.length === 0) return [];
  const sites = otherPrefixes(site ?? nobody, all).filter(prefix =>
    shown.some(name => name.startsWith(prefix)),
  );
  const of =
    sites.length === 0 ? '' : ` (other sites have the prefixes ${sites.map(one => `"${one}"`).join(', ')})`;
  const some = shown.slice(0, 5).join(', ') + (shown.length > 5 ? ', …' : '');
  return [
    finding({
      level: 'note',
      code: 'tables-not-taken',
      place,
      what: `${counted(shown.length, 'table')} that ${shown.length === 1 ? 'is' : 'are'} not this site’s ${shown.length === 1 ? 'was' : 'were'} left out: ${some}${of}`,
      remedy: 'If the site uses one of them, name it in take.database.tables.also',
    }),
  ];
}
