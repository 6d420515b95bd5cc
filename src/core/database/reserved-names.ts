import { createHash } from 'node:crypto';

const ownTablePrefix = 'able_porter_';

/** Whether a table is one of our own: it is no site's, is never taken or replaced, and is gone after `tidy`. */
export function isReserved(table: string): boolean {
  return table.startsWith(ownTablePrefix);
}

/** No server takes longer names of tables and constraints, in characters. */
const longestName = 64;

/** A name of our own for a table that waits or is kept. Where it would be too long, its end becomes a digest. */
function reservedName(what: string, table: string): string {
  const name = `${ownTablePrefix}${what}_${table}`;
  if ([...name].length <= longestName) return name;
  const digest = createHash('sha256').update(table).digest('hex').slice(0, 10);
  return `${[...name].slice(0, longestName - digest.length - 1).join('')}_${digest}`;
}

/** The table on which an account's rights are tried out, and the name that it is given for a moment. */
export const trialTables = [`${ownTablePrefix}trial`, `${ownTablePrefix}trial2`] as const;

/** The name under which a table waits beside the one whose place it is to take. */
export function stagedName(table: string): string {
  return reservedName('new', table);
}

/** The name under which a table is kept. @param keepsake its number, from 1 */
export function keptName(table: string, keepsake: number): string {
  return reservedName(`old${keepsake}`, table);
}

/** The table in which a load of a site's tables notes how far it is. @param prefix of the site's tables */
export function loadNoteName(prefix: string): string {
  return reservedName('load', prefix);
}

/** The same once its tables are in their place. */
export function doneNoteName(prefix: string): string {
  return reservedName('done', prefix);
}

/** A name of our own for a constraint whose own name another table has, for as long as that is so. */
export function reservedConstraint(table: string, name: string): string {
  return `${ownTablePrefix}fk_${createHash('sha256').update(`${table}\0${name}`).digest('hex').slice(0, 20)}`;
}
