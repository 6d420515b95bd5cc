import type { pageFindings } from '../../findings/catalogue/pages.js';

export type PageCode = keyof typeof pageFindings;

/** Something about a page of the new site that is not as it should be. */
export interface Difference {
  readonly code: PageCode;
  /** The page, below the site's address. */
  readonly path: string;
  /** Where on the page: an element and attribute, a header, a line of text. */
  readonly where: string;
  /** What was seen there. */
  readonly what: string;
  /** What makes it one with the same on other pages. */
  readonly like: string;
}
