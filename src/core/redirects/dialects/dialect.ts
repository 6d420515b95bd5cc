import type { Address } from '../../address/address.js';
import type { RedirectSet } from '../redirect-set.js';

/** A file of redirects. */
export interface DialectFile {
  /** Its path in the folder of the redirects. */
  readonly path: string;
  /** One character a byte. */
  readonly text: string;
}

/** The path of an old page with its query, below the site's address, as it is asked for. */
export type OldPath = string;

/** How the redirects of one kind of web server are written. */
export interface RedirectDialect {
  /** As the sheet names it. */
  readonly name: string;
  /** As a person calls the server. */
  readonly title: string;
  /** Recognises the server by the `Server` header of its answers (RFC 9110, section 10.2.4). */
  readonly serverHeader: RegExp;
  /** The folder, below the redirects' own, that its files are written to; its files are the only ones there. */
  readonly folder: string;
  /** Where the files belong, in one sentence. */
  where(from: Address, set: RedirectSet): string;
  /**
   * Writes down the redirects of a set: the same as the function gives, as far as the server can. The first file is the one
   * that a person looks at.
   * @param pages that are known, for what can only list them
   */
  files(set: RedirectSet, pages: readonly OldPath[]): readonly DialectFile[];
  /** Why the server answers something else to a page, before any rule is asked. */
  refuses?(page: OldPath): string | undefined;
  /** Whether it is only written where it is asked for. */
  readonly onlyAsked?: boolean;
}

/** Whether a percent sign in a path is not followed by two digits, or encodes a NUL. @param queryToo the query is read as well */
export function hasBadEncoding(page: OldPath, queryToo = false): boolean {
  return /%00|%(?![0-9a-f]{2})/i.test(queryToo ? page : page.split('?')[0]!);
}
