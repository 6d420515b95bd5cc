import { isReserved } from '../../database/reserved-names.js';
import { globPattern } from '../../rewrite/terms/globs.js';
import type { TableWish } from '../../sheet/schema.js';
import type { TakenOfTable } from '../../sql/row-count.js';
import { families } from '../families/families.js';
import type { Family } from '../families/family.js';

/** A site in a database: its family and table prefix. */
export interface SiteInDatabase {
  readonly family: Pick<Family, 'name' | 'coreTables' | 'networkTable'>;
  /** Undefined where nobody says which it is: all tables that are no other site's are then its own. */
  readonly prefix: string | undefined;
}

/** The table prefixes under which all of a family's core tables are there: one for each site. */
export function prefixesIn(tables: Iterable<string>, coreTables: readonly string[]): string[] {
  const names = new Set(tables);
  const [first, ...others] = coreTables;
  if (first === undefined) return [];
  return [...names]
    .filter(name => name.endsWith(first))
    .map(name => name.slice(0, -first.length))
    .filter(prefix => others.every(other => names.has(prefix + other)));
}

/**
 * Prefixes of other sites that begin with that of a site. Under a longer prefix is another site where its core tables are
 * complete; otherwise the tables are an extension's. Numbered tables of a network belong to the network.
 */
export function otherPrefixes({ family, prefix = '' }: SiteInDatabase, tables: Iterable<string>): string[] {
  const names = new Set(tables);
  const isNetwork = family.networkTable !== undefined && names.has(prefix + family.networkTable);
  const found = families.flatMap(one => prefixesIn(names, one.coreTables));
  return [...new Set(found)].filter(other => {
    if (!other.startsWith(prefix) || other === prefix) return false;
    return !(isNetwork && /^\d+_$/.test(other.slice(prefix.length)));
  });
}

/** Which tables belong to a site. @param tables all that are there */
export function ownershipOf(site: SiteInDatabase, tables: Iterable<string>): (table: string) => boolean {
  const { prefix = '' } = site;
  const others = otherPrefixes(site, tables);
  return table =>
    table.startsWith(prefix) && !isReserved(table) && !others.some(other => table.startsWith(other));
}

/** What is taken of each table of a database. @param tables all that are there */
export function takenOf(
  site: SiteInDatabase,
  tables: Iterable<string>,
  { also = [], only = [], without = [], 'without-rows': rowless = [] }: TableWish,
): (table: string) => TakenOfTable {
  const owns = ownershipOf(site, tables);
  const [isAlso, isOnly, isWithout, isRowless] = [also, only, without, rowless].map(globs => {
    const patterns = globs.map(globPattern);
    return (table: string) => patterns.some(pattern => pattern.test(table));
  });
  return table => {
    if (isReserved(table) || isWithout!(table)) return 'nothing';
    if (only.length > 0 ? !isOnly!(table) : !owns(table) && !isAlso!(table)) return 'nothing';
    return isRowless!(table) ? 'structure' : 'all';
  };
}
