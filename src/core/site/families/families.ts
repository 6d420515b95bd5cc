import { drupal } from './drupal.js';
import type { Family } from './family.js';
import { joomla } from './joomla.js';
import { mediawiki } from './mediawiki.js';
import { plain } from './plain.js';
import { wordpress } from './wordpress.js';

/** The families, the most particular first; `plain` takes what no other does. A new one is one more line. */
export const families: readonly Family[] = [wordpress, joomla, drupal, mediawiki, plain];

/** A family, and the files by which it was recognised. */
export interface Recognised {
  readonly family: Family;
  readonly by: readonly string[];
}

/** Recognises the family of a tree by its files, never by a guess alone. */
export function recogniseFamily(has: (path: string) => boolean): Recognised {
  for (const family of families) {
    const by = family.marks.find(marks => marks.every(has));
    if (by) return { family, by };
  }
  return { family: plain, by: [] };
}

/** The family of that name; `plain` for a name that this version does not know. */
export function familyNamed(name: string): Family {
  return families.find(family => family.name === name) ?? plain;
}

/**
 * gitignore patterns of what no move needs: error logs, programs of the host, and archives and dumps that somebody or
 * some tool left in the web root.
 */
const neverNeeded = [
  '/cgi-bin/',
  'error_log',
  'php_errorlog',
  '/*.zip',
  '/*.tar',
  '/*.tar.gz',
  '/*.tgz',
  '/*.7z',
  '/*.rar',
  '/*.sql',
  '/*.sql.gz',
  '/*.sql.zip',
  '/backups/',
];

/** gitignore patterns of what need not be taken of a site of a family. */
export function leftOutOf(family: Family): string[] {
  return [...new Set([...neverNeeded, ...family.without])];
}
