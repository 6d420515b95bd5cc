import { parse } from 'csv-parse/sync';
import { UsageError } from '../errors.js';

/** A line of the table of sites: texts by the names of their columns, in lower case. */
export type SiteRow = Readonly<Record<string, string>>;

/** Columns that would put a secret into a sheet. */
const secret = /(?<![a-z])pass(?:word|phrase|wort)?(?![a-z])|secret|credential|private key/i;

/**
 * Reads the table of sites from CSV; commas, semicolons or tabs separate its columns.
 * @throws UsageError for what is no table
 */
export function readSiteTable(text: string, file: string): SiteRow[] {
  const first = text.slice(0, text.search(/[\r\n]|$/));
  const delimiter = [';', '\t', ','].find(one => first.includes(one)) ?? ',';
  let rows: Record<string, string>[];
  try {
    rows = parse(text, {
      columns: heads => heads.map(String),
      bom: true,
      delimiter,
      trim: true,
      skip_empty_lines: true,
    });
  } catch (cause) {
    throw new UsageError(
      { doing: `Reading the table ${file}`, cause: (cause as Error).message, remedy: 'Correct that line' },
      { cause },
    );
  }
  return siteRows(rows, file);
}

/** The same of a table that is written in `fleet.yaml`. @throws UsageError for a value that is none of a table */
export function siteRows(rows: readonly object[], file: string): SiteRow[] {
  const refuse = (cause: string, remedy: string) =>
    new UsageError({ doing: `Reading the table of sites in ${file}`, cause, remedy });
  if (rows.length === 0) throw refuse('it has no site', 'Add a line a site');
  return rows.map((row, i) => {
    const line: Record<string, string> = Object.create(null);
    for (const [column, value] of Object.entries(row)) {
      if (secret.test(column))
        throw refuse(
          `the column "${column}" would write secrets into sheets`,
          'Put them into .env beside fleet.yaml, and their names into the template, as in ${DB_{NAME}}',
        );
      if (typeof value === 'object' && value !== null)
        throw refuse(
          `the ${ordinal(i)} site has no simple value for "${column}"`,
          'Write a text or a number',
        );
      line[column.trim().toLowerCase()] = String(value ?? '').trim();
    }
    return line;
  });
}

/** Names of the sites: their column `name`, or what their address gives. @throws UsageError for a name that is none, or twice */
export function namesOf(rows: readonly SiteRow[], file: string): string[] {
  const seen = new Map<string, number>();
  return rows.map((row, i) => {
    const name = row.name || nameOfAddress(row.address ?? '');
    const refuse = (cause: string) =>
      new UsageError({
        doing: `Reading the table of sites in ${file}`,
        cause,
        remedy:
          'Give each site a name of its own in a column "name": letters, digits, dots, dashes, underscores',
      });
    if (!/^\w[\w.-]{0,99}$/.test(name))
      throw refuse(`the ${ordinal(i)} site has no name, or one that is none ("${name}")`);
    // Some disks do not know letter case.
    const before = seen.get(name.toLowerCase());
    if (before !== undefined)
      throw refuse(`the ${ordinal(before)} and the ${ordinal(i)} site have the same name "${name}"`);
    seen.set(name.toLowerCase(), i);
    return name;
  });
}

/** What an address says in a name: its host and path. */
export function nameOfAddress(address: string): string {
  return address
    .replace(/^[a-z]+:\/\//i, '')
    .replace(/^www\./i, '')
    .replace(/[^\w.-]+/g, '-')
    .replace(/^[-.]+|[-.]+$/g, '');
}

function ordinal(i: number): string {
  const n = i + 1;
  const end = n % 100 >= 11 && n % 100 <= 13 ? 'th' : (['th', 'st', 'nd', 'rd'][n % 10] ?? 'th');
  return `${n}${end}`;
}
