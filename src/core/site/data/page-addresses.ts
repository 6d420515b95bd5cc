import { drupalPages, joomlaPages, mediawikiPages } from './other-pages.js';
import type { PageReader } from './page-reader.js';
import { WordpressPages } from './wordpress-pages.js';

const byFamily: Readonly<Record<string, () => PageReader>> = {
  wordpress: () => new WordpressPages(),
  joomla: joomlaPages,
  drupal: drupalPages,
  mediawiki: mediawikiPages,
};

/** A reader of the pages of a site. @param family its name @returns undefined for one whose tables are not known */
export function pageReader(family: string): PageReader | undefined {
  return byFamily[family]?.();
}
